import { command, nothing, ok } from '../dialogue.ts';

/** RFC 2177: the session waits for DONE, and tells what comes. */
export const idle = command('signed-in', nothing, () => ok());
/** RFC 3501 §6.4.1: everything that was acknowledged is on disk. */
export const check = command('selected', nothing, () => ok());
