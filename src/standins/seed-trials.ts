import type { RunningService } from '../compose/running-service.ts';
import { changeDomain } from '../service/directory/domains.ts';
import { addTrial, scoreAgain } from '../service/trial/trials.ts';
import type { StandInDns } from './dns-server.ts';
import { bring, submit } from './mail-client.ts';
import { DEMO_PASSWORD } from './seed.ts';
import { HOST, LETTER_MILL, RESERVE } from './world.ts';

/** The part of Imprenta Lunar’s domain under which its newsletter is sent by a firm. */
const NEWS = 'letters.imprentalunar.example';
const OFFERS = [
  'Moon phase calendar, A3, twelve sheets',
  'Winter cards on cotton paper, ten of a kind',
  'Letterpress workshop for two on Saturday',
];

/** A newsletter as a firm sends it that knows little of mail. */
const newsletter = (to: string, sentAt: number): string =>
  [
    `From: "Imprenta Lunar" <hello@${NEWS}>`,
    `To: <${to}>`,
    'Subject: Moon letter: last days of the winter sale',
    `Date: ${new Date(sentAt).toUTCString().replace('GMT', '+0000')}`,
    `Message-ID: <winter-sale.${sentAt}@${LETTER_MILL.name}>`,
    'MIME-Version: 1.0',
    'Content-Type: text/html; charset=utf-8',
    '',
    '<html><body><h1>Last days of the winter sale</h1>',
    '<p>Good morning from the printing house. This week everything with a moon on it costs a fifth less than it did in autumn.</p>',
    ...OFFERS.map((one) => `<p>${one}</p>`),
    `<p>All of it: <a href="http://clicks.${LETTER_MILL.name}/t?c=8841">www.imprentalunar.example/sale</a></p>`,
    `<p><a href="http://clicks.${LETTER_MILL.name}/u?c=8841">unsubscribe</a></p></body></html>`,
    '',
  ].join('\r\n');

/** What an administrator finds under Tests: a newsletter before and after its SPF record was mended, a good letter, and an address that waits. */
export async function seedTrials(
  { context, trials }: Pick<RunningService, 'context' | 'trials'>,
  { dns, forgetCaches, claimed }: { dns: StandInDns; forgetCaches: () => void; claimed: { smtp: number; submissions: number } },
): Promise<void> {
  const host = { address: HOST.addresses[0] ?? '' };
  const spf = (address: string) => ({ name: NEWS, type: 'TXT' as const, value: `v=spf1 ip4:${address} -all` });
  dns.publish({ name: NEWS, type: 'MX', value: `10 ${RESERVE.name}` });
  // The address that the firm had before it moved.
  dns.publish(spf('203.0.113.44'));
  const bad = await addTrial(context);
  const to = bad.address ?? '';
  await bring(claimed.smtp, { address: LETTER_MILL.address, helo: LETTER_MILL.name }, host, {
    from: `bounces@${NEWS}`,
    to: [to],
    raw: newsletter(to, context.clock.now()),
  });
  await trials.settled();
  dns.withdraw(NEWS, 'TXT');
  dns.publish(spf(LETTER_MILL.address));
  forgetCaches();
  await scoreAgain(context, bad.id);
  const good = await addTrial(context);
  await submit(claimed.submissions, '198.51.100.40', host, { user: 'ana@olmobakery.example', password: DEMO_PASSWORD }, [
    {
      from: 'ana@olmobakery.example',
      to: [good.address ?? ''],
      subject: 'Your order for Saturday',
      body: 'Two loaves of rye and the almond cake are ready from nine on.\r\n\r\nAna',
    },
  ]);
  await trials.settled();
  await addTrial(context);
  await changeDomain(context, 'olmobakery.example', { isSampled: true });
}
