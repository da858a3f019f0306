import type { Envelope } from '../core/smtp/client-intents.ts';
import type { AttemptResult, AttemptWatch, RemoteHost, SendMail } from '../service/base/ports.ts';
import { OpenLine, type SmtpClientSettings, type WalkStep } from './outgoing-line.ts';

const IDLE_MS = 3000;

/** Sends mail to other servers, keeping a connection for some seconds in case there is more for the same one. */
export class SmtpClient {
  private readonly idle = new Map<string, OpenLine[]>();

  constructor(private readonly settings: SmtpClientSettings) {}

  readonly send: SendMail = async (host: RemoteHost, envelope: Envelope, watch?: AttemptWatch): Promise<AttemptResult> => {
    const key = [host.name, host.address, host.port, host.credentials?.user, host.sourceIpv4, host.sourceIpv6, host.tls].join(' ');
    const watched = <T>(line: OpenLine, act: () => Promise<T>): Promise<T> => {
      if (watch) watch.current = line;
      return act().finally(() => {
        if (watch) watch.current = null;
      });
    };
    const waiting = this.idle.get(key)?.pop();
    if (waiting) {
      const result = await watched(waiting, () => waiting.deliver(envelope));
      // When the other side has hung up meanwhile, that says nothing about the message: it gets a new connection.
      if (result.kind === 'done') return this.finish(key, waiting, result);
    }
    const line = new OpenLine(this.settings, host);
    const result = await watched(line, async () => (await line.open()) ?? this.finish(key, line, await line.deliver(envelope)));
    if (result.kind === 'done' || host.tls !== 'offered' || !line.tlsBroke) return result;
    // Opportunistic TLS that breaks protects nothing: the message goes once in clear, as to a server without TLS (RFC 7435 §3).
    const inClear = new OpenLine(this.settings, { ...host, tls: 'none' });
    const again = await watched(
      inClear,
      async () => (await inClear.open()) ?? this.finish(`${key} in clear`, inClear, await inClear.deliver(envelope)),
    );
    return again.kind === 'done' ? { ...again, note: `TLS broke, sent in clear: ${result.reason}` } : result;
  };

  /** Goes as far as a message could follow, and says how each step went. */
  async walk(host: RemoteHost): Promise<WalkStep[]> {
    const line = new OpenLine(this.settings, host);
    const failure = await line.open();
    const { steps } = line;
    if (failure?.kind === 'unreachable') steps.push({ step: line.failedAt, good: false, text: failure.reason });
    line.quit();
    return steps;
  }

  close(): void {
    for (const lines of this.idle.values()) for (const line of lines) line.quit();
    this.idle.clear();
  }

  private finish(key: string, line: OpenLine, result: AttemptResult): AttemptResult {
    if (!line.usable) {
      line.quit();
      return result;
    }
    const lines = this.idle.get(key) ?? [];
    lines.push(line);
    this.idle.set(key, lines);
    line.whenIdleFor(IDLE_MS, () => {
      const left = (this.idle.get(key) ?? []).filter((one) => one !== line);
      if (left.length > 0) this.idle.set(key, left);
      else this.idle.delete(key);
      line.quit();
    });
    return result;
  }
}
