import type { ToAccess, ToService } from '../core/mailbox/access-messages.ts';
import type { AccessPort, SignInReply } from '../core/mailbox/access-port.ts';
import type { OperationResult } from '../core/mailbox/operations.ts';

/** The service as an access process sees it: each question is a message, and its answer another. */
export class AccessChannel implements AccessPort {
  private readonly waiting = new Map<number, (value: never) => void>();
  private last = 0;

  constructor(private readonly send: (message: ToService) => void) {}

  /** An answer has come. */
  answered({ call, value }: Extract<ToAccess, { kind: 'answer' }>): void {
    const resolve = this.waiting.get(call);
    this.waiting.delete(call);
    resolve?.(value as never);
  }

  signIn: AccessPort['signIn'] = (question) => this.ask<SignInReply>((call) => ({ kind: 'sign-in', call, question }));
  operate: AccessPort['operate'] = (session, operation) =>
    this.ask<OperationResult>((call) => ({ kind: 'operate', call, session, operation }));
  leave: AccessPort['leave'] = (session) => this.send({ kind: 'leave', session });
  program: AccessPort['program'] = (session, name) => this.send({ kind: 'program', session, name });
  keepOutlines: AccessPort['keepOutlines'] = (some) => this.send({ kind: 'outlines', some });
  wasRead: AccessPort['wasRead'] = (call, reading) => this.send({ kind: 'was-read', call, reading });
  textLost: AccessPort['textLost'] = (session, file, how) => this.send({ kind: 'text-lost', session, file, how });
  signInInClear: AccessPort['signInInClear'] = (service, clientAddress, user) =>
    this.send({ kind: 'in-clear', service, clientAddress, user });
  tlsFailed: AccessPort['tlsFailed'] = (service, clientAddress, reason) =>
    this.send({ kind: 'tls-failed', service, clientAddress, reason });

  private ask<Value>(message: (call: number) => ToService): Promise<Value> {
    this.last += 1;
    const call = this.last;
    return new Promise((resolve) => {
      this.waiting.set(call, resolve as (value: never) => void);
      this.send(message(call));
    });
  }
}
