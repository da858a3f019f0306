import type { CertificateChange } from '../certificates/shown.ts';
import type { Outline } from '../mime/outline.ts';
import type { MessageReading } from '../trial/reading.ts';
import type { AccessService, ArrivedText, SignInQuestion, SignInReply } from './access-port.ts';
import type { MailboxOperation, OperationResult } from './operations.ts';

/** A port that an access process serves; `share` of all that it may have open. */
interface AccessPortMessage {
  service: 'pop3' | 'pop3s' | 'imap' | 'imaps';
  address: string;
  port: number;
  proxy: boolean;
  mostPerAddress: number;
  mostOpen: number;
}

/** All that the service says to an access process, over the channel that Node gives a child. */
export type ToAccess =
  | {
      kind: 'begin';
      data: string;
      hostName: string;
      version: string;
      maxMessageBytes: number;
      certificates: CertificateChange;
      /** Conversations that are followed, as they were asked for. */
      followed: string;
    }
  | { kind: 'listen'; call: number; port: AccessPortMessage }
  | { kind: 'answer'; call: number; value: SignInReply | OperationResult }
  | { kind: 'changed'; folders: readonly number[] }
  | { kind: 'arrived'; texts: readonly ArrivedText[] }
  | { kind: 'read'; call: number; text: ArrivedText; at: number }
  | { kind: 'index'; folders: readonly number[] | 'all' }
  | { kind: 'end'; session: number }
  | { kind: 'certificates'; change: CertificateChange }
  | { kind: 'connections'; perAddress: number }
  /** No new connections; when all conversations have ended, so has the process itself. */
  | { kind: 'stop' };

/** All that an access process says to the service. */
export type ToService =
  | { kind: 'ready' }
  | { kind: 'listening'; call: number; port: number }
  | { kind: 'not-listening'; call: number; reason: string }
  | { kind: 'sign-in'; call: number; question: SignInQuestion }
  | { kind: 'operate'; call: number; session: number; operation: MailboxOperation }
  | { kind: 'leave'; session: number }
  | { kind: 'program'; session: number; name: string }
  | { kind: 'outlines'; some: readonly { file: string; outline: Outline }[] }
  | { kind: 'was-read'; call: number; reading: MessageReading | null }
  | { kind: 'text-lost'; session: number; file: string; how: 'gone' | 'cut short' }
  | { kind: 'in-clear'; service: AccessService; clientAddress: string; user: string | null }
  | { kind: 'tls-failed'; service: AccessService; clientAddress: string; reason: string }
  | { kind: 'count'; service: AccessPortMessage['service']; open: number }
  | { kind: 'log'; level: 'info' | 'error'; data: object; text: string };
