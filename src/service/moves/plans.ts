import { CAN_BE_SKIPPED, isBehind, leadingStep, movePath, type PathStep, SHORT_TTL } from '../../core/moves/path.ts';
import { lookUp } from '../../core/records/answers.ts';
import type { ImapAccount, ImapOrder } from '../../core/transfer/order.ts';
import { MOVE_STEP_TITLES, type MoveStep, type Order } from '../../core/vocabulary.ts';
import { forgetCheck } from '../../store/checks.ts';
import * as domains from '../../store/domains.ts';
import { addEntry } from '../../store/journeys.ts';
import * as store from '../../store/move-plans.ts';
import type { Page, PageAsked } from '../../store/page.ts';
import { badInput, Problem } from '../base/problem.ts';
import { requireDomain, requireServer } from '../directory/domains.ts';
import { check } from '../dns/checks.ts';
import { hostFor } from '../dns/domain-host.ts';
import type { MoveDeps } from './deps.ts';
import { type MoveOrder, moveFacts, orderOf, sidesOf } from './facts.ts';

/** As many as an import has at most. */
const MOST_ACCOUNTS = 5000;

export interface MoveView extends store.MovePlan {
  accounts: { user: string; address: string }[];
  quietHours: number;
  /** Whether one sign-in there is for everybody. */
  hasMaster: boolean;
  steps: PathStep[];
}

export interface NewMovePlan extends Omit<ImapOrder, 'kind' | 'untilQuietHours' | 'isTrial'> {
  quietHours: number;
  /** The server that takes its mail now; null for the one that its MX records name. */
  mailServer: string | null;
}

export function requirePlan(context: MoveDeps, name: string): store.MovePlan {
  const domain = requireDomain(context, name);
  const plan = store.findMovePlan(context.db, domain.id);
  if (!plan)
    throw new Problem(
      'not-found',
      `${domain.name} has no move plan.`,
      `Begin one: tenedor move-plan begin ${domain.name} SERVER --accounts FILE`,
    );
  return plan;
}

export function showMove(context: MoveDeps, name: string): MoveView {
  const plan = requirePlan(context, name);
  const order = orderOf(context, plan.domainId);
  return {
    ...plan,
    ...standing(pathOf(context, plan)),
    accounts: order.accounts.map(({ user, into }) => ({ user, address: into })),
    quietHours: order.quietHours,
    hasMaster: order.master !== null,
    steps: pathOf(context, plan),
  };
}

export const listMoves = ({ db }: MoveDeps, order: Order<'movePlans'>, asked: PageAsked): Page<store.MovePlan> =>
  store.pageOfMovePlans(db, order, asked);

export const pathOf = (context: MoveDeps, plan: store.MovePlan): PathStep[] => movePath(moveFacts(context, plan));

const standing = (path: readonly PathStep[]): Pick<store.MovePlan, 'step' | 'state' | 'said'> => {
  const step = leadingStep(path);
  return step ? { step: step.step, state: step.state, said: step.said } : { step: null, state: 'done', said: 'All steps are complete.' };
};

/** Writes down how a plan stands now, for the lists. */
export async function noteStanding(context: MoveDeps, domainId: number): Promise<void> {
  const { db } = context;
  await db.commit(() => {
    const plan = store.findMovePlan(db, domainId);
    if (!plan) return;
    const now = standing(pathOf(context, plan));
    if (now.step !== plan.step || now.state !== plan.state || now.said !== plan.said) store.noteMoveState(db, domainId, now);
  });
}

/** Begins a plan: from now on the domain's mailboxes are here, and its mail is passed on to the old server until its MX records lead here. */
export async function beginMove(context: MoveDeps, name: string, asked: NewMovePlan): Promise<MoveView> {
  const { db, clock, keyFile } = context;
  const domain = requireDomain(context, name);
  if (domain.twinOf !== null)
    throw new Problem(
      'not-here',
      `${domain.name} is a twin of ${domain.twinOf}: it has no mailboxes of its own.`,
      'Move that domain, or end the twin first.',
    );
  const { mailServer, quietHours, ...imap } = asked;
  const accounts = cleanAccounts(domain.name, imap.accounts, imap.master !== null);
  // A home domain may still have the server of a role that it had before.
  const primary = domain.role === 'pass-on' || domain.role === 'standby' ? domain.primaryServer : null;
  const oldServer = mailServer ?? primary ?? (await serverByMx(context, domain.name));
  if (oldServer !== null) requireServer('pass-on', oldServer);
  const order: MoveOrder = {
    ...imap,
    accounts,
    kind: 'imap',
    untilQuietHours: 0,
    quietHours,
    mailServer: oldServer?.toLowerCase() ?? null,
  };
  await db.commit(() => {
    const now = requireDomain(context, name);
    if (store.findMovePlan(db, now.id))
      throw new Problem('exists-already', `${now.name} has a move plan already.`, `See it: tenedor move-plan show ${now.name}`);
    domains.setOldServer(db, now.id, order.mailServer);
    if (now.role !== 'home') {
      domains.changeDomain(db, now.id, {
        customerId: domains.findDomainFacts(db, now.name)?.customerId ?? 0,
        planId: now.planId,
        role: 'home',
      });
      forgetCheck(db, now.id);
    }
    store.addMovePlan(db, { domainId: now.id, begunAt: clock.now(), server: imap.host, asked: keyFile.seal(JSON.stringify(order)) });
    if (oldServer === null) store.noteHereSince(db, now.id, clock.now());
    addEntry(db, {
      at: clock.now(),
      journeyId: null,
      domain: now.name,
      event: 'move-begun',
      data: { server: imap.host, mailboxes: accounts.length },
    });
  });
  return checkMove(context, name);
}

function cleanAccounts(domain: string, given: readonly ImapAccount[], hasMaster: boolean): ImapAccount[] {
  const accounts = given.map((one) => ({ ...one, into: ownAddress(one.into, domain) }));
  const seen = new Set<string>();
  for (const { into, user, password } of accounts) {
    if (seen.has(into)) throw badInput('accounts', `${into} is named twice.`, 'Name each address once.');
    seen.add(into);
    if (password === null && !hasMaster)
      throw badInput('accounts', `There is no password for ${user.slice(0, 80)}.`, 'Give each account its password, or use a master user.');
  }
  return accounts;
}

function ownAddress(text: string, domain: string): string {
  const [local, side] = text.includes('@') ? sidesOf(text.trim().toLowerCase()) : [text.trim().toLowerCase(), domain];
  if (side !== domain)
    throw badInput(
      'accounts',
      `${text.slice(0, 80)} is not an address of ${domain}.`,
      'A move plan covers one domain. Use another plan for other domains.',
    );
  return `${local}@${domain}`;
}

/** Corrects accounts of a plan, or adds some; those that are not named stay as they are. What did not end well begins anew with them. */
export async function changeAccounts(context: MoveDeps, name: string, given: readonly ImapAccount[]): Promise<MoveView> {
  const { db, keyFile } = context;
  const plan = requirePlan(context, name);
  const changed = cleanAccounts(plan.domain, given, orderOf(context, plan.domainId).master !== null);
  await db.commit(() => {
    const now = requirePlan(context, name);
    const order = orderOf(context, now.domainId);
    const named = new Set(changed.map((one) => one.into));
    const accounts = [...order.accounts.filter((one) => !named.has(one.into)), ...changed];
    if (accounts.length > MOST_ACCOUNTS)
      throw badInput('accounts', `A plan has at most ${MOST_ACCOUNTS.toLocaleString('en')} accounts.`, 'Leave some out.');
    store.keepAskedOfMove(db, now.domainId, keyFile.seal(JSON.stringify({ ...order, accounts })));
    // Whether they all sign in is not known any more.
    for (const row of store.listMoveSteps(db, now.domainId))
      if (row.step === 'sign-in' || row.step === 'first-pass') store.keepMoveStep(db, now.domainId, { ...row, transferId: null });
  });
  await noteStanding(context, plan.domainId);
  return showMove(context, name);
}

/** The best of its MX hosts that is not ours; null where all are ours. */
async function serverByMx(context: MoveDeps, name: string): Promise<string | null> {
  const answer = await lookUp(context.dns.openViews().source, name, 'MX');
  const own = hostFor(context, requireDomain(context, name));
  const hosts = answer.kind === 'found' ? [...answer.values].sort((one, other) => one.preference - other.preference) : [];
  const isOurs = (exchange: string): boolean => exchange === own.name || (own.standby ?? []).includes(exchange);
  const other = hosts.find(({ exchange }) => exchange !== '' && !isOurs(exchange));
  if (other) return other.exchange;
  if (hosts.some(({ exchange }) => isOurs(exchange))) return null;
  throw badInput(
    'mailServer',
    `DNS has no MX record for ${name}${answer.kind === 'failed' ? `: ${answer.reason}` : ''}.`,
    'Name its current mail server: --mail-server HOST',
  );
}

/** Looks at its DNS now. When its MX records lead here, its mail stays here from that moment on. */
export async function checkMove(context: MoveDeps, name: string): Promise<MoveView> {
  const { db, clock } = context;
  const { domainId, domain } = requirePlan(context, name);
  const answer = await lookUp(context.dns.openViews().source, domain, 'MX');
  const ttl = answer.kind === 'found' ? answer.ttl : null;
  const report = await check(context, domain);
  const verdict = report.findings.find((one) => one.subject === 'mx')?.verdict;
  await db.commit(() => {
    const now = store.findMovePlan(db, domainId);
    if (!now) return;
    const heldUntil = ttl !== null && ttl > SHORT_TTL ? clock.now() + ttl * 1000 : now.heldUntil;
    store.noteMxLook(db, domainId, { at: clock.now(), ttl, heldUntil });
    if (now.hereSince === null && (verdict === 'good' || verdict === 'weak' || verdict === 'waiting')) takeOver(context, now);
  });
  await noteStanding(context, domainId);
  return showMove(context, name);
}

/** Only inside `commit`. */
function takeOver({ db, clock }: MoveDeps, { domainId, domain }: store.MovePlan): void {
  domains.setOldServer(db, domainId, null);
  store.noteHereSince(db, domainId, clock.now());
  addEntry(db, { at: clock.now(), journeyId: null, domain, event: 'move-step', data: { step: 'mx', act: 'done' } });
}

export function requireStep(context: MoveDeps, plan: store.MovePlan, step: MoveStep): PathStep {
  const found = pathOf(context, plan).find((one) => one.step === step);
  if (!found) throw new Error(`no step ${step}`);
  return found;
}

/** Leaves a step out. */
export async function skipStep(context: MoveDeps, name: string, step: MoveStep): Promise<MoveView> {
  const { db, clock } = context;
  const plan = requirePlan(context, name);
  if (!CAN_BE_SKIPPED.includes(step))
    throw new Problem('in-use', `“${MOVE_STEP_TITLES[step]}” cannot be skipped.`, 'The steps after it need it.');
  const found = requireStep(context, plan, step);
  if (isBehind(found))
    throw new Problem('under-way', `“${MOVE_STEP_TITLES[step]}” is already complete.`, `See: tenedor move-plan show ${plan.domain}`);
  await db.commit(() => {
    const row = store.listMoveSteps(db, plan.domainId).find((one) => one.step === step);
    store.keepMoveStep(db, plan.domainId, { step, transferId: row?.transferId ?? null, made: row?.made ?? [], isSkipped: true });
    addEntry(db, { at: clock.now(), journeyId: null, domain: plan.domain, event: 'move-step', data: { step, act: 'skipped' } });
  });
  await noteStanding(context, plan.domainId);
  return showMove(context, name);
}

/** Ends a plan; the passwords of the old server are forgotten. What is here stays here. */
export async function endMove(context: MoveDeps, name: string): Promise<void> {
  const { db, clock } = context;
  const plan = requirePlan(context, name);
  const path = pathOf(context, plan);
  const goes = path.find(
    (one) => one.state === 'under-way' && (one.step === 'first-pass' || one.step === 'last-pass' || one.step === 'sign-in'),
  );
  if (goes)
    throw new Problem(
      'under-way',
      `“${MOVE_STEP_TITLES[goes.step]}” is under way.`,
      `Stop it first: tenedor move-plan undo ${plan.domain} ${goes.step}`,
    );
  await db.commit(() => {
    domains.setOldServer(db, plan.domainId, null);
    store.removeMovePlan(db, plan.domainId);
    addEntry(db, { at: clock.now(), journeyId: null, domain: plan.domain, event: 'move-ended', data: { isWhole: path.every(isBehind) } });
  });
}
