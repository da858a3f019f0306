import { ORDERS } from '../core/vocabulary.ts';
import * as appPasswords from '../service/access/app-passwords.ts';
import { loadMailboxes } from '../service/directory/load-mailboxes.ts';
import * as mailboxes from '../service/directory/mailboxes.ts';
import { mailboxContents, setRetention } from '../service/insight/mailbox-contents.ts';
import { type Call, call, done, pages, shortList } from './call.ts';
import * as s from './schemas.ts';

/** Calls about mailboxes and aliases. */
export const MAILBOX_CALLS: readonly Call[] = [
  pages('/domains/:domain/mailboxes', 'List mailboxes', s.mailbox, ORDERS.mailboxes, ({ context, param }, asked) =>
    mailboxes.listMailboxes(context, param('domain'), asked),
  ),
  call('post', '/mailboxes', 'Add a mailbox', { body: s.newMailbox, result: s.mailboxResult }, ({ context, body }) =>
    mailboxes.addMailbox(context, body),
  ),
  call(
    'post',
    '/mailboxes/load',
    'Add many mailboxes from a list, all or none',
    { body: s.mailboxList, result: s.mailboxListResult },
    ({ context, body }) => loadMailboxes(context, body.csv, body.trial),
  ),
  call('get', '/mailboxes/:address', 'Show a mailbox', { result: s.mailbox }, ({ context, param }) =>
    mailboxes.requireMailbox(context, param('address')),
  ),
  call(
    'get',
    '/mailboxes/:address/contents',
    'Show a mailbox’s folders, and who has it open',
    { result: s.mailboxContents },
    ({ context, param }) => mailboxContents(context, param('address')),
  ),
  shortList(
    '/mailboxes/:address/app-passwords',
    'List a mailbox’s app passwords',
    s.appPassword,
    ORDERS.appPasswords,
    (one) => `${one.name} ${one.program ?? ''} ${one.usedFrom ?? ''}`,
    { name: (one) => one.name, used: (one) => (one.usedAt === null ? null : -one.usedAt), since: (one) => -one.createdAt },
    ({ context, param }) => appPasswords.listAppPasswords(context, param('address')).map(({ id: _id, ...one }) => one),
  ),
  call(
    'post',
    '/mailboxes/:address/app-passwords',
    'Make a password for one device',
    { body: s.newAppPassword, result: s.newAppPasswordResult },
    ({ context, param, body }) => appPasswords.addAppPassword(context, param('address'), body.name),
  ),
  call('delete', '/mailboxes/:address/app-passwords/:name', 'Revoke a device’s password', { result: s.nothing }, ({ context, param }) =>
    done(appPasswords.removeAppPassword(context, param('address'), param('name'))),
  ),
  call(
    'put',
    '/mailboxes/:address/retention',
    'Set how long messages stay in a folder',
    { body: s.retention, result: s.mailboxContents },
    ({ context, param, body }) => setRetention(context, param('address'), body.folder, body.keepDays),
  ),
  call(
    'patch',
    '/mailboxes/:address',
    'Change a mailbox’s password or quota',
    { body: s.mailboxChanges, result: s.mailboxResult },
    ({ context, param, body }) => mailboxes.changeMailbox(context, param('address'), body),
  ),
  call('get', '/mailboxes/:address/removal', 'What removing the mailbox takes along', { result: s.removal }, ({ context, param }) =>
    mailboxes.mailboxRemoval(context, param('address')),
  ),
  call('delete', '/mailboxes/:address', 'Remove a mailbox with its messages', { result: s.nothing }, ({ context, param }) =>
    done(mailboxes.removeMailbox(context, param('address'))),
  ),
  pages('/domains/:domain/aliases', 'List aliases', s.alias, ORDERS.aliases, ({ context, param }, asked) =>
    mailboxes.listAliases(context, param('domain'), asked),
  ),
  call('post', '/aliases', 'Add an alias', { body: s.newAlias, result: s.alias }, ({ context, body }) =>
    mailboxes.addAlias(context, body.address, body.targets),
  ),
  call('get', '/aliases/:address', 'Show an alias', { result: s.alias }, ({ context, param }) =>
    mailboxes.showAlias(context, param('address')),
  ),
  call('patch', '/aliases/:address', 'Change where an alias leads', { body: s.aliasChanges, result: s.alias }, ({ context, param, body }) =>
    mailboxes.changeAlias(context, param('address'), body.targets),
  ),
  call('get', '/aliases/:address/removal', 'What removing the alias takes along', { result: s.removal }, ({ context, param }) =>
    mailboxes.aliasRemoval(context, param('address')),
  ),
  call('delete', '/aliases/:address', 'Remove an alias', { result: s.nothing }, ({ context, param }) =>
    done(mailboxes.removeAlias(context, param('address'))),
  ),
];
