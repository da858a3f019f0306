import { z } from 'zod';
import { ORDERS } from '../core/vocabulary.ts';
import * as appPasswords from '../service/access/app-passwords.ts';
import { requireStillDevice, requireStillOwn, stillOwn } from '../service/access/shown-again.ts';
import { loadLists } from '../service/directory/lists/load.ts';
import { isRefused } from '../service/directory/lists/load-result.ts';
import * as mailboxes from '../service/directory/mailboxes.ts';
import * as members from '../service/directory/members.ts';
import * as removed from '../service/directory/removed-mailboxes.ts';
import { mailboxContents, setRetention } from '../service/overview/mailbox-contents.ts';
import { mailSettings, settingsSheet } from '../service/overview/settings-sheet.ts';
import { type Again, type Call, call, done, pages, shortList } from './call.ts';
import * as b from './mailbox-schemas.ts';
import * as s from './schemas.ts';

const OWN_PASSWORD: Again<b.MailboxResult> = {
  answer: async ({ context }, answer) => {
    const { mailbox, password } = answer;
    if (password !== null) await requireStillOwn(context, { address: mailbox.address, password });
    return answer;
  },
};

/** Calls about mailboxes and aliases. */
export const MAILBOX_CALLS: readonly Call[] = [
  pages('/domains/:domain/mailboxes', 'List mailboxes', b.mailbox, ORDERS.mailboxes, ({ context, param }, asked) =>
    mailboxes.listMailboxes(context, param('domain'), asked),
  ),
  call('post', '/mailboxes', 'Add a mailbox', { body: b.newMailbox, result: b.mailboxResult, again: OWN_PASSWORD }, ({ context, body }) =>
    mailboxes.addMailbox(context, body),
  ),
  call(
    'post',
    '/lists/load',
    'Add many customers, domains and mailboxes from lists, all or none',
    {
      body: b.lists,
      result: b.listsResult,
      again: {
        // Under this key there may have been another call.
        isRefusal: ({ context }, answer) => Array.isArray(answer.faults) && (isRefused(answer) || context.loads.wasRefused(answer.id)),
        answer: async ({ context }, answer) => {
          const now = answer.isOver ? answer : await context.loads.look(answer.id);
          return { ...now, passwords: await stillOwn(context, now.passwords) };
        },
      },
    },
    ({ context, body: { trial, ...lists } }) => context.loads.begin((onProgress) => loadLists(context, lists, trial, onProgress)),
  ),
  call(
    'get',
    '/lists/loads/:id',
    'Progress of a load; its result is available for ten minutes',
    { result: b.listsResult },
    ({ context, param }) => context.loads.look(param('id')),
  ),
  call('get', '/mailboxes/:address', 'Show a mailbox', { result: b.mailbox }, ({ context, param }) =>
    mailboxes.requireMailbox(context, param('address')),
  ),
  call(
    'get',
    '/mailboxes/:address/contents',
    'Show a mailbox’s folders and open sessions',
    { result: b.mailboxContents },
    ({ context, param }) => mailboxContents(context, param('address')),
  ),
  shortList(
    '/mailboxes/:address/app-passwords',
    'List a mailbox’s app passwords',
    b.appPassword,
    ORDERS.appPasswords,
    (one) => `${one.name} ${one.program ?? ''} ${one.usedFrom ?? ''}`,
    { name: (one) => one.name, used: (one) => (one.usedAt === null ? null : -one.usedAt), since: (one) => -one.createdAt },
    ({ context, param }) => appPasswords.listAppPasswords(context, param('address')).map(({ id: _id, ...one }) => one),
  ),
  call(
    'post',
    '/mailboxes/:address/app-passwords',
    'Create a password for one device',
    {
      body: b.newAppPassword,
      result: b.newAppPasswordResult,
      again: {
        answer: ({ context, param }, answer) => {
          requireStillDevice(context, { address: param('address'), password: answer.password });
          return answer;
        },
      },
    },
    ({ context, param, body }) => appPasswords.addAppPassword(context, param('address'), body.name),
  ),
  call('delete', '/mailboxes/:address/app-passwords/:name', 'Revoke a device’s password', { result: s.nothing }, ({ context, param }) =>
    done(appPasswords.removeAppPassword(context, param('address'), param('name'))),
  ),
  shortList(
    '/mailboxes/:address/members',
    'List the members of a shared mailbox',
    b.member,
    ORDERS.members,
    (one) => one.address,
    { address: (one) => one.address, since: (one) => -one.since },
    ({ context, param }) => members.listMembers(context, param('address')),
  ),
  call(
    'put',
    '/mailboxes/:address/members',
    'Share a mailbox with a member, or change the member’s rights',
    { body: b.newMember, result: z.array(b.member) },
    ({ context, param, body }) => members.shareMailbox(context, param('address'), body),
  ),
  call(
    'delete',
    '/mailboxes/:address/members/:member',
    'Stop sharing a mailbox with a member',
    { result: s.nothing },
    ({ context, param }) => done(members.unshareMailbox(context, param('address'), param('member'))),
  ),
  call(
    'put',
    '/mailboxes/:address/retention',
    'Set how long messages stay in a folder',
    { body: b.retention, result: b.mailboxContents },
    ({ context, param, body }) => setRetention(context, param('address'), body.folder, body.keepDays),
  ),
  call(
    'patch',
    '/mailboxes/:address',
    'Change a mailbox’s password or quota',
    { body: b.mailboxChanges, result: b.mailboxResult, again: OWN_PASSWORD },
    ({ context, param, body }) => mailboxes.changeMailbox(context, param('address'), body),
  ),
  call('get', '/mailboxes/:address/settings', 'Client settings', { result: b.settingsSheet }, ({ context, param }) =>
    settingsSheet(context, param('address')),
  ),
  call(
    'post',
    '/mailboxes/:address/settings/mail',
    'Mail the client settings, without a password',
    { body: b.settingsMail, result: b.settingsMailed },
    ({ context, param, body }) => mailSettings(context, param('address'), body.to),
  ),
  call('get', '/mailboxes/:address/removal', 'What removing the mailbox also removes', { result: s.removal }, ({ context, param }) =>
    removed.mailboxRemoval(context, param('address')),
  ),
  call('delete', '/mailboxes/:address', 'Remove a mailbox; it can be restored for some days', { result: s.nothing }, ({ context, param }) =>
    done(removed.removeMailbox(context, param('address'))),
  ),
  shortList(
    '/domains/:domain/removed-mailboxes',
    'List removed mailboxes that can be restored',
    b.removedMailbox,
    ORDERS.removedMailboxes,
    (one) => one.address,
    { removed: (one) => -one.removedAt, address: (one) => one.address },
    ({ context, param }) => removed.listRemoved(context, param('domain')),
  ),
  call(
    'post',
    '/removed-mailboxes/:id/restore',
    'Restore a removed mailbox with its messages',
    { result: b.broughtBack },
    ({ context, param }) => removed.bringBack(context, Number(param('id'))),
  ),
  call('get', '/removed-mailboxes/:id/removal', 'What deleting it for good also removes', { result: s.removal }, ({ context, param }) =>
    removed.removedRemoval(context, Number(param('id'))),
  ),
  call('delete', '/removed-mailboxes/:id', 'Delete a removed mailbox for good', { result: s.nothing }, ({ context, param }) =>
    done(removed.deleteRemoved(context, Number(param('id')))),
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
  call(
    'patch',
    '/aliases/:address',
    'Change the targets of an alias',
    { body: s.aliasChanges, result: s.alias },
    ({ context, param, body }) => mailboxes.changeAlias(context, param('address'), body.targets),
  ),
  call('get', '/aliases/:address/removal', 'What removing the alias also removes', { result: s.removal }, ({ context, param }) =>
    mailboxes.aliasRemoval(context, param('address')),
  ),
  call('delete', '/aliases/:address', 'Remove an alias', { result: s.nothing }, ({ context, param }) =>
    done(mailboxes.removeAlias(context, param('address'))),
  ),
];
