import { ORDERS } from '../core/vocabulary.ts';
import { compared, listRehearsals, showRehearsal } from '../service/rehearsal/rehearsals.ts';
import { rehearseReceive, rehearseRelay, rehearseSignIn } from '../service/rehearsal/rehearse.ts';
import { rehearseSend } from '../service/rehearsal/rehearse-send.ts';
import { addWitness, listWitnesses, removeWitness, requireOpenCode } from '../service/rehearsal/witnesses.ts';
import { addTrial, listTrials, removeTrial, scoreAgain, showTrial } from '../service/trial/trials.ts';
import { type Call, call, done, pages, shortList } from './call.ts';
import * as r from './rehearsal-schemas.ts';
import { nothing } from './schemas.ts';
import * as t from './trial-schemas.ts';

/** Calls that do step by step what a client would do. */
export const REHEARSAL_CALLS: readonly Call[] = [
  shortList(
    '/rehearsals',
    'List the rehearsals that were made',
    r.rehearsalHead,
    ORDERS.rehearsals,
    (one) => `${one.kind} ${one.subject} ${one.recipient ?? ''} ${one.witness ?? ''} ${one.isGood ? 'good' : 'failed'}`,
    { at: (one) => -one.id, subject: (one) => one.subject },
    ({ context }) => listRehearsals(context),
  ),
  call(
    'post',
    '/rehearsals/signin',
    'Sign in to a mailbox as mail programs do, on every way, without anybody’s password',
    { body: r.addressRehearsal, result: r.rehearsal },
    async ({ context, body }) => compared(context, await rehearseSignIn(context, body.address, body)),
  ),
  call(
    'post',
    '/rehearsals/receive',
    'Bring mail for an address as another server does, up to the message or with it',
    { body: r.addressRehearsal, result: r.rehearsal },
    async ({ context, body }) => compared(context, await rehearseReceive(context, body.address, body)),
  ),
  call(
    'post',
    '/rehearsals/send',
    'Send from a mailbox to somebody, up to the message or with it',
    { body: r.sendRehearsal, result: r.rehearsal },
    async ({ context, body }) => compared(context, await rehearseSend(context, body.from, body.to, body.message)),
  ),
  call(
    'post',
    '/rehearsals/relay',
    'Try to have mail for strangers passed on by this host',
    { body: r.relayRehearsal, result: r.rehearsal },
    async ({ context, body }) => compared(context, await rehearseRelay(context, body.witness)),
  ),
  shortList(
    '/witnesses',
    'List the hosts that rehearse for this one, or for which it rehearses',
    r.witnessView,
    ORDERS.witnesses,
    (one) => `${one.name} ${one.url ?? ''}`,
    { name: (one) => one.name, since: (one) => -one.addedAt },
    ({ context }) => listWitnesses(context),
  ),
  call(
    'post',
    '/witnesses',
    'Give another host a one-time code to introduce itself by, or introduce this one by the code that it gave',
    {
      body: r.newWitness,
      result: r.addedWitness,
      again: {
        answer: ({ context }, answer) => {
          if (answer.givenCode !== null) requireOpenCode(context, answer.name, answer.givenCode);
          return answer;
        },
      },
    },
    ({ context, body }) => addWitness(context, body),
  ),
  call('delete', '/witnesses/:name', 'Remove a witness', { result: nothing }, ({ context, param }) =>
    done(removeWitness(context, param('name'))),
  ),
  pages('/rehearsals/messages', 'List the messages that are scored', t.trialHead, ORDERS.trials, ({ context }, asked) =>
    listTrials(context, asked.sort, asked),
  ),
  call('post', '/rehearsals/messages', 'Get an address that takes one message, and scores it', { result: t.trial }, ({ context }) =>
    addTrial(context),
  ),
  call('get', '/rehearsals/messages/:id', 'Show what a message is worth', { result: t.trial }, ({ context, param }) =>
    showTrial(context, Number(param('id'))),
  ),
  call(
    'post',
    '/rehearsals/messages/:id/again',
    'Score the same message anew, by what DNS says today',
    { result: t.trial },
    ({ context, param }) => scoreAgain(context, Number(param('id'))),
  ),
  call('delete', '/rehearsals/messages/:id', 'Remove a message that was scored', { result: nothing }, ({ context, param }) =>
    done(removeTrial(context, Number(param('id')))),
  ),
  call('get', '/rehearsals/:id', 'Show a rehearsal beside the one before about the same', { result: r.rehearsal }, ({ context, param }) =>
    showRehearsal(context, Number(param('id'))),
  ),
];
