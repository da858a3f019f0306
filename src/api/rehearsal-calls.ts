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
    'List recent tests',
    r.rehearsalHead,
    ORDERS.rehearsals,
    (one) => `${one.kind} ${one.subject} ${one.recipient ?? ''} ${one.witness ?? ''} ${one.isGood ? 'good' : 'failed'}`,
    { at: (one) => -one.id, subject: (one) => one.subject },
    ({ context }) => listRehearsals(context),
  ),
  call(
    'post',
    '/rehearsals/signin',
    'Test signing in to a mailbox as clients do, without its password',
    { body: r.addressRehearsal, result: r.rehearsal },
    async ({ context, body }) => compared(context, await rehearseSignIn(context, body.address, body)),
  ),
  call(
    'post',
    '/rehearsals/receive',
    'Test delivery to an address as another server does, with or without a message',
    { body: r.addressRehearsal, result: r.rehearsal },
    async ({ context, body }) => compared(context, await rehearseReceive(context, body.address, body)),
  ),
  call(
    'post',
    '/rehearsals/send',
    'Test sending from a mailbox, with or without a message',
    { body: r.sendRehearsal, result: r.rehearsal },
    async ({ context, body }) => compared(context, await rehearseSend(context, body.from, body.to, body.message)),
  ),
  call(
    'post',
    '/rehearsals/relay',
    'Test this host for an open relay',
    { body: r.relayRehearsal, result: r.rehearsal },
    async ({ context, body }) => compared(context, await rehearseRelay(context, body.witness)),
  ),
  shortList(
    '/witnesses',
    'List witnesses',
    r.witnessView,
    ORDERS.witnesses,
    (one) => `${one.name} ${one.url ?? ''}`,
    { name: (one) => one.name, since: (one) => -one.addedAt },
    ({ context }) => listWitnesses(context),
  ),
  call(
    'post',
    '/witnesses',
    'Create a one-time code for another host, or register with the code it gave you',
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
  pages('/rehearsals/messages', 'List scored messages', t.trialHead, ORDERS.trials, ({ context }, asked) =>
    listTrials(context, asked.sort, asked),
  ),
  call('post', '/rehearsals/messages', 'Get an address that accepts one message and scores it', { result: t.trial }, ({ context }) =>
    addTrial(context),
  ),
  call('get', '/rehearsals/messages/:id', 'Show a message’s score', { result: t.trial }, ({ context, param }) =>
    showTrial(context, Number(param('id'))),
  ),
  call(
    'post',
    '/rehearsals/messages/:id/again',
    'Score the same message again, with today’s DNS',
    { result: t.trial },
    ({ context, param }) => scoreAgain(context, Number(param('id'))),
  ),
  call('delete', '/rehearsals/messages/:id', 'Remove a scored message', { result: nothing }, ({ context, param }) =>
    done(removeTrial(context, Number(param('id')))),
  ),
  call('get', '/rehearsals/:id', 'Show a past test, compared with the one before', { result: r.rehearsal }, ({ context, param }) =>
    showRehearsal(context, Number(param('id'))),
  ),
];
