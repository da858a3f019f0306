import { once } from 'node:events';
import { rmSync } from 'node:fs';
import { join } from 'node:path';
import { EXIT } from '../cli/errors.ts';
import { type DemoSettings, PORTS, requireFreePorts, startWorld } from './demo-start.ts';
import type { World } from './demo-world.ts';
import { lookServer } from './look-page.ts';
import { bring, submit } from './mail-client.ts';
import { OLD_PASSWORD } from './old-server.ts';
import { DEMO_PASSWORD } from './seed.ts';
import { runTour } from './tour.ts';
import { DOMAINS, HOST, MOVING, PROVIDERS } from './world.ts';

export async function runDemo(settings: DemoSettings): Promise<void> {
  if (settings.tour) {
    const folder = join(settings.folder, '..', '.demo-tour');
    const world = await startWorld(
      { ...settings, folder },
      { smtp: 0, submission: 0, submissions: 0, imap: 0, imaps: 0, pop3: 0, pop3s: 0, web: 0 },
      false,
    );
    const good = await runTour(world, settings.program);
    await world.close();
    rmSync(folder, { recursive: true, force: true });
    if (!good) process.exitCode = EXIT.notGood;
    return;
  }
  // Before anything of a demo that may be running is touched.
  await requireFreePorts(Object.values(PORTS));
  process.stdout.write(
    'Starting the demo world: a name server, three mail providers, a smart host, an old server, and two Tenedors with eight customers …\n',
  );
  const world = await startWorld(settings, PORTS, true);
  await exchangeMail(world);
  world.service.startChecks();
  const look = lookServer({
    dns: world.dns,
    providers: () => lookInto(world),
    domains: [...DOMAINS.map((one) => one.domain), MOVING.domain],
  });
  look.listen(PORTS.look, '127.0.0.1');
  await once(look, 'listening');
  const code = world.service.firstSignIn?.code ?? '';
  process.stdout.write(`
The demo is up: mail.faroquieto.example, run by the small provider Faro Quieto.

  Console      ${world.webUrl}/
  Sign in as   operator, with the one-time code  ${code}
               (you choose a password with it; for one click: ${world.webUrl}/sign-in#${code})
  Mail         SMTP 2525 · submission 2587 (STARTTLS), 2465 (TLS)
               IMAP 2143 (STARTTLS), 2993 (TLS) · POP3 2110 (STLS), 2995 (TLS)
               user ana@olmobakery.example, password ${DEMO_PASSWORD} (every demo mailbox has it)
  Providers    what northpost, openbay and slowtide received: http://127.0.0.1:${PORTS.look}/
  Reserve      the second server, its own Tenedor: ${world.reserve.webUrl}/, one-time code  ${world.reserve.service.firstSignIn?.code ?? ''}
  Old server   mx.oldharbour.example has the old mail of pau@tallernuno.example, password ${OLD_PASSWORD} (import imap)
  Moving here  velanorte.example, from there: ./tenedor --demo move-plan show velanorte.example
  DNS          the customers’ DNS forms, to publish records: http://127.0.0.1:${PORTS.look}/zones

Three commands to try, in this folder:

  ./tenedor --demo status
  ./tenedor --demo check rutaverde.example               (then fix it: records publish rutaverde.example)
  ./tenedor --demo brake list                            (then: brake release news@imprentalunar.example)

All commands: ./tenedor --help     The log: .demo/service.log     Stop: Ctrl-C
`);
  let stopping = false;
  const stop = (): void => {
    if (stopping) return;
    stopping = true;
    look.close();
    look.closeAllConnections();
    world.close().then(
      () => process.exit(0),
      () => process.exit(EXIT.refused),
    );
  };
  process.on('SIGINT', stop);
  process.on('SIGTERM', stop);
}

/** A little real mail in both directions, over real sockets. */
async function exchangeMail({ service, claimed }: World): Promise<void> {
  const host = { address: HOST.addresses[0] ?? '' };
  const body = 'This is a message of the demo.\r\n\r\nGreetings';
  const account = (user: string) => ({ user, password: DEMO_PASSWORD });
  // Seven recipients outside, one of them through an alias.
  const attempted = new Promise<void>((resolve) => {
    let left = 7;
    service.context.signals.on('attempted', () => {
      left -= 1;
      if (left === 0) resolve();
    });
  });
  await submit(claimed.submissions, '198.51.100.40', host, account('ana@olmobakery.example'), [
    { from: 'ana@olmobakery.example', to: ['mar.soto@northpost.example', 'leo@openbay.example'], subject: 'Christmas opening hours', body },
    { from: 'info@olmobakery.example', to: ['vera@slowtide.example'], subject: 'Re: bread for the village party', body },
  ]);
  await submit(claimed.submissions, '198.51.100.52', host, account('nico@rutaverde.example'), [
    { from: 'nico@rutaverde.example', to: ['irene.vidal@northpost.example'], subject: 'Sunday ride: start at nine', body },
  ]);
  // The club writes to all of its members: what is beyond forty an hour waits here for room.
  const members = (from: number, to: number): string[] =>
    Array.from({ length: to - from }, (_none, at) => `member${from + at}@openbay.example`);
  for (const [from, to] of [
    [1, 25],
    [25, 49],
  ] as const)
    await submit(claimed.submissions, '198.51.100.52', host, account('club@rutaverde.example'), [
      { from: 'club@rutaverde.example', to: members(from, to), subject: 'Programme of the winter rides', body },
    ]);
  await submit(claimed.submissions, '198.51.100.88', host, account('marta@coropuerto.example'), [
    { from: 'marta@coropuerto.example', to: ['sofia@northpost.example'], subject: 'Scores for the concert', body },
    { from: 'marta@coropuerto.example', to: ['bruno@openbay.example'], subject: 'Scores for the concert', body },
  ]);
  const north = { address: '203.0.113.10', helo: 'mx.northpost.example' };
  await bring(claimed.smtp, north, host, {
    from: 'mar.soto@northpost.example',
    to: ['ana@olmobakery.example'],
    subject: 'Re: Christmas opening hours',
    body,
  });
  await bring(claimed.smtp, north, host, {
    from: 'tom@northpost.example',
    to: ['board@rutaverde.example'],
    subject: 'Question about membership',
    body,
  });
  await bring(claimed.smtp, { address: '203.0.113.20', helo: 'mx.openbay.example' }, host, {
    from: 'dani@openbay.example',
    to: ['visit@marisma-museum.example', 'nobody-here@marisma-museum.example'],
    subject: 'Guided visit for a school',
    body,
  });
  await bring(claimed.smtp, { address: '203.0.113.66', helo: 'unknown.example' }, host, {
    from: 'offers@unknown.example',
    to: ['someone@clinicmail.example'],
    subject: 'Offer',
    body,
  });
  await attempted;
}

/** What each provider received and how it judged that, as text. */
function lookInto({ providers }: World): string {
  return providers
    .map((provider) => {
      const lines = provider.filed.map(({ at, sender, recipient, subject, folder, judgement, client, tls }) => {
        const dkim = judgement.dkim.map((one) => `${one.result} (${one.reason})`).join(', ') || 'none';
        return `  ${new Date(at).toISOString().slice(0, 19)}  ${folder}\n    ${sender} → ${recipient}: ${subject}\n    from ${client}${tls ? ' with TLS' : ''}\n    SPF ${judgement.spf.result} (${judgement.spf.reason})\n    DKIM ${dkim}\n    DMARC ${judgement.dmarc.result} (${judgement.dmarc.reason})\n`;
      });
      return `${provider.domain}, ${PROVIDERS.find((one) => one.domain === provider.domain)?.says}\n\n${lines.join('\n') || '  nothing yet\n'}`;
    })
    .join('\n');
}
