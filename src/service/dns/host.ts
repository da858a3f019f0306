import { type Finding, leading } from '../../core/checks/finding.ts';
import { checkHost } from '../../core/checks/host.ts';
import { checkReverse } from '../../core/checks/reverse.ts';
import { type Earlier, underBothViews } from '../../core/checks/views.ts';
import { hostRecords, reverseRequest, type SheetRecord } from '../../core/records/sheet.ts';
import * as store from '../../store/checks.ts';
import { nextCheckAt, noteChanges, tell } from './checks.ts';
import type { DnsDeps } from './deps.ts';

export interface HostReport {
  name: string;
  addresses: string[];
  standby: string[];
  postmaster: string;
  records: SheetRecord[];
  /** The text with which the reverse records are asked for. */
  request: string;
  blockLists: string[];
  checkedAt: number;
  good: boolean;
  findings: Finding[];
}

/** The host's own records and what was found last; it is looked at when nobody has done so yet. */
export async function hostReport(context: DnsDeps): Promise<HostReport> {
  const { db, host } = context;
  const { checkedAt, findings } = store.findHostCheck(db, host) ?? (await checkHostNow(context));
  return {
    name: host.name,
    addresses: [...host.addresses],
    standby: [...(host.standby ?? [])],
    postmaster: host.postmaster,
    records: hostRecords(host),
    request: reverseRequest(host, hostLeadsThere(context)),
    blockLists: [...host.blockLists],
    checkedAt,
    good: findings.every((one) => one.verdict === 'good'),
    findings,
  };
}

/** Whether the host's name was seen to lead to each of its addresses. */
export function hostLeadsThere({ db, host }: DnsDeps): boolean {
  const findings = store.findHostCheck(db, host)?.findings ?? [];
  const own = findings.filter((one) => one.subject === 'host');
  return own.length > 0 && !own.some((one) => one.code === 'host-no-forward' || one.verdict === 'unknown' || one.verdict === 'waiting');
}

/** Looks at the host now, keeps the findings, and journals what changed. */
export async function checkHostNow(context: DnsDeps): Promise<{ checkedAt: number; findings: Finding[] }> {
  const { db, clock, dns, host } = context;
  const views = dns.openViews();
  const [greeting, resolvers] = await Promise.all([dns.greeting(), dns.askResolvers(host.name)]);
  const everything = { concerns: () => true, isOurs: () => true };
  const earlier: Earlier | null = store.findHostCheck(db, host);
  const now = clock.now();
  const lists = (name: string): boolean => host.blockLists.some((list) => name.endsWith(`.${list}`));
  const findings = [
    // A list's answers are meant to change; only the host's own names are waited for.
    ...(await underBothViews(
      (lookup) => checkHost({ host, greeting, blockLists: host.blockLists, resolvers }, lookup),
      views,
      { ...everything, concerns: (name) => !lists(name) },
      earlier,
      now,
    )),
    ...(await underBothViews((lookup) => checkReverse(host, lookup, dns.routes()), views, everything, earlier, now)),
  ];
  const checkedAt = clock.now();
  const changes = await db.commit(() => {
    const noted = noteChanges(context, null, store.findHostCheck(db, host)?.findings ?? null, findings);
    store.keepHostCheck(db, host, checkedAt, findings, nextCheckAt(context, findings));
    return noted;
  });
  tell(context, changes);
  return { checkedAt, findings };
}

export async function checkHostAgain(context: DnsDeps): Promise<HostReport> {
  context.dns.forget();
  await checkHostNow(context);
  return hostReport(context);
}

export const hostHistory = ({ db }: DnsDeps, asked: store.ChangesAsked): store.FindingChange[] => store.listChanges(db, null, asked);

/** The worst of what was found about the host itself, for pages that show many things. */
export const hostFaults = ({ db, host }: DnsDeps): Finding[] =>
  leading(store.findHostCheck(db, host)?.findings ?? []).filter((one) => one.verdict !== 'good');
