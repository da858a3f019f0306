import { type PathStep, whatIsBefore } from '../../core/moves/path.ts';
import { MOVE_STEP_TITLES, type MoveStep } from '../../core/vocabulary.ts';
import { setOldServer } from '../../store/domains.ts';
import { addEntry } from '../../store/journeys.ts';
import { listMailboxes } from '../../store/mailboxes.ts';
import * as store from '../../store/move-plans.ts';
import { Problem } from '../base/problem.ts';
import { requireGoodPassword } from '../base/secrets.ts';
import { requireDomain } from '../directory/domains.ts';
import { addMailbox, requireMailbox } from '../directory/mailboxes.ts';
import { count } from '../directory/removals.ts';
import { removeMailbox } from '../directory/removed-mailboxes.ts';
import { mailSettings } from '../overview/settings-sheet.ts';
import type { MoveDeps } from './deps.ts';
import { type MoveOrder, missingOf, moveFacts, orderOf } from './facts.ts';
import { checkMove, type MoveView, noteStanding, pathOf, requirePlan, requireStep, showMove } from './plans.ts';

/** What a step came to; passwords that were made are told this once. */
export interface Stepped {
  plan: MoveView;
  passwords: { address: string; password: string }[];
  /** What kept it from being whole. */
  fault: string | null;
}

/** A password takes a tenth of a second to keep, and whoever asks waits for no longer than a request may take: the rest is done when it is asked for again. */
const MADE_TOGETHER = 100;
const SENT_TOGETHER = 500;

const PASSES: readonly MoveStep[] = ['sign-in', 'first-pass', 'last-pass'];
const isPass = (step: MoveStep): boolean => PASSES.includes(step);

/** One act of a domain at a time, by service. */
const actingIn = new WeakMap<MoveDeps['transfers'], Set<number>>();

async function alone<Result>({ transfers }: MoveDeps, plan: store.MovePlan, work: () => Promise<Result>): Promise<Result> {
  const acting = actingIn.get(transfers) ?? new Set();
  actingIn.set(transfers, acting);
  if (acting.has(plan.domainId))
    throw new Problem('under-way', `A step of the move of ${plan.domain} is being done.`, 'Try again in a moment.');
  acting.add(plan.domainId);
  try {
    return await work();
  } finally {
    acting.delete(plan.domainId);
  }
}

/** Does a step, or goes on with it; null for the next one. Throws Problem for what has to be done before it, or elsewhere. */
export async function doStep(context: MoveDeps, name: string, asked: MoveStep | null): Promise<Stepped> {
  const plan = requirePlan(context, name);
  return alone(context, plan, async () => {
    const path = pathOf(context, plan);
    const found = asked === null ? nextStep(path, plan) : requireStep(context, plan, asked);
    const { step, state } = found;
    const before = whatIsBefore(path, step);
    if (before)
      throw new Problem(
        'in-use',
        `“${MOVE_STEP_TITLES[before.step]}” comes before that: ${before.said}`,
        before.advice || `See: tenedor move-plan show ${plan.domain}`,
      );
    if (state === 'under-way')
      throw new Problem(
        'under-way',
        `“${MOVE_STEP_TITLES[step]}” is under way: ${found.said}`,
        `See its progress: tenedor move-plan show ${plan.domain}`,
      );
    if (state === 'done' && !isPass(step))
      throw new Problem('under-way', `“${MOVE_STEP_TITLES[step]}” is done.`, `See what is next: tenedor move-plan show ${plan.domain}`);
    if (!found.isOurs) return byHand(context, plan, found);
    const made = await act(context, plan, found);
    await noteStanding(context, plan.domainId);
    return { plan: showMove(context, plan.domain), ...made };
  });
}

function nextStep(path: readonly PathStep[], plan: store.MovePlan): PathStep {
  const found =
    path.find((one) => one.isOurs && (one.state === 'wrong' || one.state === 'next')) ??
    path.find((one) => one.state === 'next' || one.state === 'wrong');
  if (found) return found;
  const waits = path.find((one) => one.state === 'waiting' || one.state === 'under-way');
  throw waits
    ? new Problem(
        'under-way',
        `“${MOVE_STEP_TITLES[waits.step]}” is still waiting: ${waits.said}`,
        `See its state: tenedor move-plan show ${plan.domain}`,
      )
    : new Problem('under-way', 'All steps are complete.', `End the plan: tenedor move-plan end ${plan.domain}`);
}

/** What is done elsewhere can only be looked for. */
async function byHand(context: MoveDeps, plan: store.MovePlan, { step }: PathStep): Promise<Stepped> {
  const now = await checkMove(context, plan.domain);
  const found = now.steps.find((one) => one.step === step);
  if (found?.state === 'next' || found?.state === 'wrong')
    throw new Problem('not-set-up', found.said, found.advice || 'Look again in a while.');
  return { plan: now, passwords: [], fault: null };
}

type Made = Pick<Stepped, 'passwords' | 'fault'>;
const NOTHING: Made = { passwords: [], fault: null };

async function act(context: MoveDeps, plan: store.MovePlan, { step }: PathStep): Promise<Made> {
  const order = orderOf(context, plan.domainId);
  switch (step) {
    case 'mailboxes':
      return makeMailboxes(context, plan, order);
    case 'sheets':
      return sendSheets(context, plan, order);
    default:
      await carry(context, plan, step, order);
      return NOTHING;
  }
}

const rowOf = ({ db }: MoveDeps, { domainId }: store.MovePlan, step: MoveStep): store.MoveStepRow =>
  store.listMoveSteps(db, domainId).find((one) => one.step === step) ?? { step, transferId: null, isSkipped: false, made: [] };

const noteStep = (context: MoveDeps, plan: store.MovePlan, row: store.MoveStepRow, act: 'done' | 'begun' | 'undone'): Promise<unknown> =>
  context.db.commit(() => {
    if (!store.findMovePlan(context.db, plan.domainId)) return;
    store.keepMoveStep(context.db, plan.domainId, row);
    addEntry(context.db, {
      at: context.clock.now(),
      journeyId: null,
      domain: plan.domain,
      event: 'move-step',
      data: { step: row.step, act },
    });
  });

/** Begins the transfer of a step, also where an earlier one came to no good end. */
export async function carry(
  context: MoveDeps,
  plan: store.MovePlan,
  step: MoveStep,
  { quietHours, mailServer: _mailServer, ...order }: MoveOrder,
): Promise<void> {
  const { transfers, db } = context;
  const row = rowOf(context, plan, step);
  // A new one each time: accounts may have been corrected, and what was taken is known.
  const begun = await transfers.begin(
    { ...order, isTrial: step === 'sign-in', untilQuietHours: step === 'last-pass' ? quietHours : 0 },
    db,
  );
  await noteStep(context, plan, { ...row, transferId: begun.id, isSkipped: false }, 'begun');
}

async function makeMailboxes(context: MoveDeps, plan: store.MovePlan, order: MoveOrder): Promise<Made> {
  const missing = missingOf(context, plan.domainId, order);
  const { mostMailboxes, plan: limits } = requireDomain(context, plan.domain);
  const has = listMailboxes(context.db, plan.domainId).length;
  if (has + missing.length > mostMailboxes)
    throw new Problem(
      'plan-full',
      `${count(missing.length, 'mailbox is', 'mailboxes are')} missing, and the plan “${limits}” of ${plan.domain} has room for ${Math.max(0, mostMailboxes - has)} more.`,
      'Give the domain a larger plan first.',
    );
  const passwords: Stepped['passwords'] = [];
  const row = rowOf(context, plan, 'mailboxes');
  const made = [...row.made];
  let fault: string | null = null;
  for (const address of missing.slice(0, MADE_TOGETHER)) {
    try {
      const known = order.accounts.find((one) => one.into === address)?.password ?? null;
      const { password } = await addMailbox(context, { address, password: isGood(known) ? known : null, quotaBytes: null });
      made.push({ address });
      if (password !== null) passwords.push({ address, password });
    } catch (error) {
      // Those that were made have passwords that must be told.
      if (!(error instanceof Problem)) throw error;
      fault = `${address}: ${error.message} ${error.remedy}`;
      break;
    }
  }
  if (made.length > row.made.length) await noteStep(context, plan, { ...row, made }, 'done');
  return { passwords, fault };
}

function isGood(password: string | null): boolean {
  if (password === null) return false;
  try {
    requireGoodPassword(password);
    return true;
  } catch {
    return false;
  }
}

async function sendSheets(context: MoveDeps, plan: store.MovePlan, order: MoveOrder): Promise<Made> {
  const row = rowOf(context, plan, 'sheets');
  const failed = new Set(moveFacts(context, plan).sheets.failed.map((one) => one.address));
  const made = row.made.filter((one) => !failed.has(one.address));
  let fault: string | null = null;
  const open = order.accounts.filter(({ into }) => !made.some((one) => one.address === into));
  for (const { into } of open.slice(0, SENT_TOGETHER)) {
    try {
      const { journey } = await mailSettings(context, into, into);
      made.push({ address: into, journey });
    } catch (error) {
      if (!(error instanceof Problem)) throw error;
      fault ??= `${into}: ${error.message} ${error.remedy}`;
    }
  }
  await noteStep(context, plan, { ...row, made, isSkipped: false }, 'done');
  return { passwords: [], fault };
}

/** Takes a step back, where that can be done. */
export async function undoStep(context: MoveDeps, name: string, step: MoveStep): Promise<MoveView> {
  const plan = requirePlan(context, name);
  return alone(context, plan, async () => {
    const row = rowOf(context, plan, step);
    if (row.isSkipped) await noteStep(context, plan, { ...row, isSkipped: false }, 'undone');
    else if (isPass(step)) await stopPass(context, plan, row);
    else if (step === 'mailboxes') await removeMade(context, plan, row);
    else if (step === 'mx') await passOnAgain(context, plan);
    else
      throw new Problem(
        'in-use',
        `“${MOVE_STEP_TITLES[step]}” can’t be undone here.`,
        step === 'sheets' ? 'The sheets have already been sent.' : 'Change it back in the domain’s DNS.',
      );
    await noteStanding(context, plan.domainId);
    return showMove(context, plan.domain);
  });
}

async function stopPass({ transfers }: MoveDeps, plan: store.MovePlan, row: store.MoveStepRow): Promise<void> {
  const found = row.transferId === null ? null : transfers.find(row.transferId);
  if (found?.state !== 'under-way')
    throw new Problem(
      'in-use',
      `“${MOVE_STEP_TITLES[row.step]}” is not running; mail it has copied stays.`,
      `See: tenedor move-plan show ${plan.domain}`,
    );
  await transfers.stopOne(found.id);
}

async function removeMade(context: MoveDeps, plan: store.MovePlan, row: store.MoveStepRow): Promise<void> {
  if (plan.hereSince !== null)
    throw new Problem(
      'in-use',
      `Mail for ${plan.domain} already arrives in these mailboxes.`,
      `First pass it on to the old server again: tenedor move-plan undo ${plan.domain} mx`,
    );
  const goes = pathOf(context, plan).find((one) => isPass(one.step) && one.state === 'under-way');
  if (goes)
    throw new Problem(
      'under-way',
      `“${MOVE_STEP_TITLES[goes.step]}” is under way.`,
      `Stop it first: tenedor move-plan undo ${plan.domain} ${goes.step}`,
    );
  if (row.made.length === 0)
    throw new Problem(
      'in-use',
      'This plan has not created any mailboxes.',
      `Remove other mailboxes one by one: tenedor mailbox remove ADDRESS`,
    );
  for (const { address } of row.made) {
    if (isThere(context, address)) await removeMailbox(context, address);
  }
  await noteStep(context, plan, { ...row, made: [] }, 'undone');
}

function isThere(context: MoveDeps, address: string): boolean {
  try {
    requireMailbox(context, address);
    return true;
  } catch (error) {
    if (error instanceof Problem) return false;
    throw error;
  }
}

/** Only while its MX records do not lead here: what comes is passed on again. */
async function passOnAgain(context: MoveDeps, plan: store.MovePlan): Promise<void> {
  const { db } = context;
  if (plan.hereSince === null)
    throw new Problem('in-use', `Mail for ${plan.domain} is already passed on to the old server.`, 'There is nothing to undo.');
  const now = await checkMove(context, plan.domain);
  const { state, said } = now.steps.find((one) => one.step === 'mx') ?? { state: 'later', said: '' };
  if (state === 'done' || state === 'waiting' || state === 'under-way')
    throw new Problem('in-use', `The MX records of ${plan.domain} point here: ${said}`, 'Set them back to the old server first.');
  const to = orderOf(context, plan.domainId).mailServer;
  if (to === null)
    throw new Problem(
      'not-set-up',
      'The old server is not known: the MX records already pointed here when the plan was begun.',
      `Give the domain the role pass-on: tenedor domain set ${plan.domain} --role pass-on --to HOST`,
    );
  await db.commit(() => {
    setOldServer(db, plan.domainId, to);
    store.noteHereSince(db, plan.domainId, null);
  });
  await noteStep(context, plan, rowOf(context, plan, 'mx'), 'undone');
}
