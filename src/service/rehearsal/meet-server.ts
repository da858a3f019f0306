import type { RelayOrder } from '../../core/rehearsal/order.ts';
import { greetingExchanges, relayExchanges, serverTlsExchanges } from '../../core/rehearsal/scripts.ts';
import { RehearsalFault, type RehearsalTalk } from './rehearsal-door.ts';
import { connectToEach, lookAtCertificate, StepFailed, type Way } from './rehearsal-steps.ts';
import type { RehearsalWorld } from './rehearsal-world.ts';

export interface ServerToMeet {
  /** By the name under which it is known, which TLS asks for. */
  name: string;
  addresses: readonly string[];
  port: number;
  /** How it is greeted. */
  greeting: string;
  /** What to do when it does not greet us. */
  action: string;
  /** What to do when it can’t be reached, and is somebody else’s. */
  notOurs?: string;
  /** Whether mail in clear is a fault. */
  needsTls: boolean;
  /** A step between the greeting and TLS. */
  between?: () => Promise<void>;
}

/** What came of meeting a server: as far as it went, with TLS where there is any. */
export interface Met {
  /** Null where it could not be reached. */
  talk: RehearsalTalk | null;
  isGreeted: boolean;
  isSecure: boolean;
}

/** Connects to a mail server as another one does, is greeted, and begins TLS where it is offered. */
export async function meetServer(world: RehearsalWorld, way: Way, server: ServerToMeet): Promise<Met> {
  const { name, addresses, port, greeting, action, notOurs, needsTls, between } = server;
  const met: Met = { talk: null, isGreeted: false, isSecure: false };
  const talk = (): RehearsalTalk => met.talk as RehearsalTalk;
  await way.step('port', `reaches port ${port}${addresses.length > 1 ? ' of each address' : ''}`, null, async () => {
    const { talk: open, fault } = await connectToEach(world, addresses, port, notOurs);
    met.talk = open;
    if (fault) throw fault;
    return { seen: addresses.length === 1 ? 'it is open' : `it is open at all ${addresses.length}` };
  });
  // Where one address fails and another does not, mail gets in all the same.
  if (met.talk) way.goOn();
  let greeted = '';
  await way.step(
    'greeting',
    'is greeted',
    talk,
    async () => {
      greeted = await talk().talk(greetingExchanges(greeting));
      met.isGreeted = true;
      return { seen: greeted.split('\n')[0]?.replace(/^\d{3}[ -]/, '') ?? '' };
    },
    action,
  );
  await between?.();
  if (met.isGreeted) way.goOn();
  if (/^250[ -]STARTTLS\s*$/im.test(greeted)) {
    let pem = '';
    await way.step('tls', 'begins TLS', talk, async () => {
      const refused = await talk()
        .talk(serverTlsExchanges)
        .then(() => null, refusedTls);
      // As a message does: it goes in clear where nobody asks for more (RFC 3207 §4).
      if (refused !== null && needsTls) throw refused;
      if (refused !== null) return { seen: `it is refused (${refused.what}); a message goes in clear then` };
      const shown = await talk().startTls(name);
      pem = shown.pem;
      met.isSecure = true;
      return { seen: shown.version };
    });
    if (!met.isSecure && !needsTls) return met;
    await way.step('certificate', `looks at the certificate for ${name}`, null, async () => {
      // Between servers a certificate that nobody vouches for is taken, as the alternative is none (RFC 7435).
      const { text, action: todo } = lookAtCertificate(world, name, pem);
      return { seen: text, action: needsTls ? todo : '' };
    });
  } else if (met.isGreeted && needsTls) {
    await way.step('tls', 'begins TLS', null, async () => {
      throw new StepFailed(
        'STARTTLS is not offered: mail comes in clear.',
        'Look at what stands between: some firewalls take it out of the answer.',
      );
    });
    way.goOn();
  }
  return met;
}

/** An answer that refuses TLS; anything else is a fault. */
function refusedTls(error: unknown): RehearsalFault {
  if (error instanceof RehearsalFault && error.kind === 'answer') return error;
  throw error;
}

/** Tries to have mail for strangers passed on by this host, in the name of one of its domains; what was under way is given up. */
export async function tryRelay(way: Way, talk: RehearsalTalk, { domain, takesAll, greeting }: RelayOrder): Promise<void> {
  await way.step(
    'relay',
    'is refused mail for strangers, however it is written',
    () => talk,
    async () => {
      await talk.talk([
        // RFC 5321 §4.1.4: as good as RSET, and needed after STARTTLS.
        { expect: null, say: { text: `EHLO ${greeting}\r\n` } },
        { expect: /^250 .*\r\n/m, say: null },
        ...relayExchanges(domain, takesAll),
      ]);
      return { seen: 'no mail of strangers is passed on' };
    },
    'The address from which this was tried may send without signing in: tenedor network list',
  );
}
