import type { OperationRefusal, OperationResult } from '../../core/mailbox/operations.ts';

export type Refused = Extract<OperationResult, { kind: 'refused' }>;
export const refused = (why: OperationRefusal, text: string): Refused => ({ kind: 'refused', why, text });
export const NO_FOLDER = refused('no-folder', 'There is no such folder');
