import { domainSide } from '../../core/address/sides.ts';
import { isGoodWay, type Rehearsal, type RehearsalWay } from '../../core/rehearsal/rehearsal.ts';
import { allDomainNames, findDomain } from '../../store/domains.ts';
import { keepRehearsal } from '../../store/rehearsals.ts';
import type { InsightDeps } from './deps.ts';
import { meetServer, tryRelay } from './meet-server.ts';
import { Way } from './rehearsal-steps.ts';

const SMTP_PORT = 25;

/** Tries to have mail for strangers passed on by this host, at each of its addresses. */
export async function rehearseRelay(context: InsightDeps): Promise<Rehearsal> {
  const { db, clock, host, passes } = context;
  const domain = domainHere(context);
  const ways: RehearsalWay[] = [];
  for (const address of host.addresses) {
    const way = new Way(`${host.name} [${address}]`);
    const greeting = passes.greeting(clock.steady());
    const { talk, isGreeted } = await meetServer(context, way, {
      name: host.name,
      addresses: [address],
      port: SMTP_PORT,
      greeting,
      action: 'Look at the log: too many connections, a block list, or a server that is stopping refuse here.',
      needsTls: true,
    });
    if (talk && isGreeted) {
      way.goOn();
      await tryRelay(context, way, { talk, domain, greeting });
    }
    talk?.close();
    ways.push(way);
  }
  const made = { kind: 'relay' as const, subject: host.name, at: clock.now(), isGood: ways.every(isGoodWay), ways };
  return { id: await db.commit(() => keepRehearsal(db, made)), ...made };
}

/** A domain whose mailboxes are here, that does not take every local part if there is one such. */
function domainHere({ db, host }: InsightDeps): string {
  const homes = allDomainNames(db).filter((name) => findDomain(db, name)?.role === 'home');
  return homes.find((name) => findDomain(db, name)?.catchAll === null) ?? homes[0] ?? domainSide(host.postmaster);
}
