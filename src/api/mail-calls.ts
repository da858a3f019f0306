import { ORDERS } from '../core/vocabulary.ts';
import { discardHeld } from '../service/delivery/discard-held.ts';
import * as outlets from '../service/delivery/outlets.ts';
import * as queue from '../service/delivery/queue.ts';
import * as limits from '../service/limits/edit-limits.ts';
import * as stopping from '../service/limits/set-stops.ts';
import * as statements from '../service/limits/statements.ts';
import * as notices from '../service/notices/notices.ts';
import { explain } from '../service/overview/explain.ts';
import { type Call, type Current, call, done, paged, pages, shortList } from './call.ts';
import * as s from './mail-schemas.ts';
import * as q from './queue-schemas.ts';
import { nothing } from './schemas.ts';

const DAY = 24 * 3_600_000;

const THE_LIMITS: Current = {
  kind: '/limits/:scope',
  result: s.limitsView,
  read: ({ context, param }) => limits.showLimits(context, param('scope')),
};

/** Calls about mail in motion. */
export const MAIL_CALLS: readonly Call[] = [
  call('get', '/limits/:scope', 'Limits and usage of a scope', { result: s.limitsView }, ({ context, param }) =>
    limits.showLimits(context, param('scope')),
  ),
  call('put', '/limits/:scope', 'Set limits of a scope', { body: s.limitsChange, result: s.limitsView }, ({ context, param, body }) =>
    limits.setLimits(context, param('scope'), body),
  ),
  call(
    'post',
    '/limits/:scope/raises',
    'Raise a limit for a while',
    { body: s.newRaise, result: s.limitsView, current: THE_LIMITS },
    ({ context, param, body }) => limits.raiseLimit(context, param('scope'), body),
  ),
  call(
    'delete',
    '/limits/:scope/raises',
    'End the raises of a scope',
    { result: s.limitsView, current: THE_LIMITS },
    ({ context, param }) => limits.endRaises(context, param('scope')),
  ),
  call('get', '/ledger/:scope', 'Charges of a scope', { query: s.ledgerQuery, result: s.ledgerView }, ({ context, param, query }) =>
    statements.ledger(context, param('scope'), context.limits.now() - query.days * DAY, query),
  ),
  call(
    'get',
    '/statements/:scope',
    'A scope’s statement for a period',
    { query: s.statementQuery, result: s.statement },
    ({ context, param, query }) => statements.statement(context, param('scope'), query.from, query.to),
  ),
  call(
    'get',
    '/statements/:scope/csv',
    'The same as comma-separated values',
    { query: s.statementQuery, result: s.statementTable },
    async ({ context, param, query }) => ({
      csv: statements.statementCsv(await statements.statement(context, param('scope'), query.from, query.to)),
    }),
  ),
  call('get', '/sending', 'Top senders, and how sends end', { query: s.sendingQuery, result: s.sendingView }, ({ context, query }) =>
    statements.sending(context, query.domain ?? null, query, query),
  ),
  call(
    'get',
    '/sending/failures',
    'Why sends failed, by what other servers said',
    { query: s.sendingQuery, result: s.sendingFailures },
    ({ context, query }) => statements.sendingFailures(context, query.domain ?? null, query, query),
  ),

  pages('/stops', 'List pauses, brakes and stops', s.stop, ORDERS.stops, ({ context }, asked) => stopping.listStops(context, asked)),
  call('post', '/stops', 'Pause sending, receiving or both', { body: s.newPause, result: s.stop }, ({ context, body: { scope, ...how } }) =>
    stopping.pause(context, scope, how),
  ),
  call('post', '/stops/release', 'End a pause, brake or stop', { body: s.stopBody, result: q.acted }, ({ context, body }) =>
    stopping.resume(context, body.scope, body.kind),
  ),
  call('post', '/stops/discard', 'Drop mail held by a pause, brake or stop', { body: s.stopBody, result: q.acted }, ({ context, body }) =>
    discardHeld(context, body.scope, body.kind),
  ),
  call('post', '/unusual/clear', 'Clear a flag for unusual sending', { body: s.scopeBody, result: nothing }, ({ context, body }) =>
    done(stopping.clearUnusual(context, body.scope)),
  ),

  call(
    'get',
    '/queue',
    'List waiting recipients',
    { query: q.queueQuery, result: q.queueList },
    ({ context, query: { id, sort, reverse, offset, limit, after, ...selection } }) =>
      paged({ sort, reverse, offset, limit, after }, (part) =>
        queue.listQueue(context, { ...selection, ids: id === undefined ? undefined : [id] }, part),
      ),
  ),
  call(
    'get',
    '/queue/destinations',
    'The queue by destination',
    { query: q.destinationsQuery, result: q.queueDestinations },
    ({ context, query }) => queue.queueDestinations(context, query),
  ),
  call(
    'post',
    '/queue/actions',
    'Retry, hold, release or drop waiting mail',
    { body: q.queueAct, result: q.acted },
    ({ context, body: { act, expected, reason, ...selection } }) => queue.actOnQueue(context, act, selection, expected, reason),
  ),

  shortList(
    '/outlets',
    'Outlets for mail, in their order',
    s.outlet,
    ORDERS.outlets,
    (one) => `${one.name} ${one.host ?? ''} ${one.destinations.join(' ')}`,
    { position: (one) => one.position, name: (one) => one.name },
    ({ context }) => outlets.listOutlets(context),
  ),
  call('post', '/outlets', 'Add an outlet', { body: s.newOutlet, result: s.outlet }, ({ context, body }) =>
    outlets.addOutlet(context, body),
  ),
  call('get', '/outlets/:name', 'Show an outlet', { result: s.outlet }, ({ context, param }) => outlets.showOutlet(context, param('name'))),
  call('patch', '/outlets/:name', 'Change an outlet', { body: s.outletChanges, result: s.outlet }, ({ context, param, body }) =>
    outlets.changeOutlet(context, param('name'), body),
  ),
  call('delete', '/outlets/:name', 'Remove an outlet', { result: nothing }, ({ context, param }) =>
    done(outlets.removeOutlet(context, param('name'))),
  ),
  call(
    'post',
    '/outlets/:name/test',
    'Test an outlet without a message',
    { body: s.outletTestQuery, result: s.outletTest },
    ({ context, param, body }) => outlets.testOutlet(context, param('name'), body.to),
  ),

  call(
    'get',
    '/explain',
    'Predict what happens to a message, and by which rule',
    { query: s.explainQuery, result: s.explanation },
    ({ context, query }) => explain(context, { from: query.from, to: query.to, ip: query.ip ?? null, as: query.as ?? null }),
  ),

  call('get', '/notices', 'Events that customers are notified of by mail', { result: s.notices }, ({ context }) =>
    notices.noticeSettings(context),
  ),
  call(
    'put',
    '/notices',
    'Set the events that customers are notified of',
    { body: s.noticesInput, result: s.notices },
    ({ context, body }) => notices.setNotices(context, body),
  ),
  shortList(
    '/webhooks',
    'List webhooks',
    s.webhook,
    ORDERS.webhooks,
    (one) => one.url,
    { since: (one) => one.createdAt, url: (one) => one.url },
    ({ context }) => notices.listWebhooks(context),
  ),
  call(
    'post',
    '/webhooks',
    'Add a webhook',
    {
      body: s.newWebhook,
      result: s.newWebhookResult,
      again: {
        answer: ({ context }, answer) => {
          notices.requireStillSecret(context, answer.webhook.id, answer.secret);
          return answer;
        },
      },
    },
    ({ context, body }) => notices.addWebhook(context, body),
  ),
  call('post', '/webhooks/:id/test', 'Test a webhook', { result: s.webhookTest }, ({ context, param }) =>
    notices.testWebhook(context, Number(param('id'))),
  ),
  call('delete', '/webhooks/:id', 'Remove a webhook', { result: nothing }, ({ context, param }) =>
    done(notices.removeWebhook(context, Number(param('id')))),
  ),
];
