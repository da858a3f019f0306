import { z } from 'zod';
import { ORDERS } from '../core/vocabulary.ts';
import { stillOwn } from '../service/access/shown-again.ts';
import { doStep, undoStep } from '../service/moves/acts.ts';
import { beginMove, changeAccounts, checkMove, endMove, listMoves, showMove, skipStep } from '../service/moves/plans.ts';
import { type Call, call, done, pages } from './call.ts';
import * as m from './move-schemas.ts';
import { serverOf } from './transfer-calls.ts';

const PLAN = '/domains/:domain/move-plan';

/** Calls about domains that move here from another server. */
export const MOVE_CALLS: readonly Call[] = [
  pages('/move-plans', 'List the domains that are moving here', m.movePlan, ORDERS.movePlans, ({ context }, asked) =>
    listMoves(context, asked.sort, asked),
  ),
  call('get', PLAN, 'A domain’s move, step by step', { result: m.movePlanDetails }, ({ context, param }) =>
    showMove(context, param('domain')),
  ),
  call(
    'post',
    PLAN,
    'Plan a domain’s move; its mail is passed on to the old server until its MX records point here',
    { body: m.newMovePlan, result: m.movePlanDetails },
    ({ context, param, body: { mailServer, quietHours, ...server } }) =>
      beginMove(context, param('domain'), { ...serverOf(server), mailServer, quietHours }),
  ),
  call(
    'post',
    `${PLAN}/next`,
    'Do the next step, or a named one; running work continues',
    {
      body: m.nextStep,
      result: m.stepped,
      again: { answer: async ({ context }, answer) => ({ ...answer, passwords: await stillOwn(context, answer.passwords) }) },
    },
    ({ context, param, body }) => doStep(context, param('domain'), body.step),
  ),
  call(
    'post',
    `${PLAN}/accounts`,
    'Add or correct accounts of a plan; others stay unchanged',
    { body: m.moveAccounts, result: m.movePlanDetails },
    ({ context, param, body }) => changeAccounts(context, param('domain'), body.accounts),
  ),
  call('post', `${PLAN}/check`, 'Check its DNS now', { result: m.movePlanDetails }, ({ context, param }) =>
    checkMove(context, param('domain')),
  ),
  call('post', `${PLAN}/undo`, 'Undo a step', { body: m.moveStep, result: m.movePlanDetails }, ({ context, param, body }) =>
    undoStep(context, param('domain'), body.step),
  ),
  call('post', `${PLAN}/skip`, 'Skip a step', { body: m.moveStep, result: m.movePlanDetails }, ({ context, param, body }) =>
    skipStep(context, param('domain'), body.step),
  ),
  call('delete', PLAN, 'End the plan; mail stays here', { result: z.object({}) }, ({ context, param }) =>
    done(endMove(context, param('domain'))),
  ),
];
