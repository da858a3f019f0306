import { dirname, isAbsolute, resolve } from 'node:path';
import { domainSide } from '../../core/address/sides.ts';
import type { ExportOrder, FilesOrder, ImapOrder, OrderPins, RecoverOrder, TransferOrder } from '../../core/transfer/order.ts';
import { findCustomer } from '../../store/customers.ts';
import { findDomainFacts, newestDomain } from '../../store/domains.ts';
import { lookUpMailbox } from '../../store/mailboxes.ts';
import { badInput, Problem } from '../base/problem.ts';
import { requireCustomer } from '../directory/customers.ts';
import { requireDomain, requireHome } from '../directory/domains.ts';
import { requireMailbox } from '../directory/mailboxes.ts';
import { count } from '../directory/removals.ts';
import type { TransferDeps } from './deps.ts';
import { lookAt, mayWrite } from './look-at-place.ts';

/** An order with what it is about and where it comes from or goes to, in words. */
export interface CheckedOrder {
  order: TransferOrder;
  subject: string;
  place: string;
}

/** Checks what is asked for before anything begins. Throws Problem. */
export async function checkOrder(context: TransferDeps, asked: TransferOrder): Promise<CheckedOrder> {
  const { order, ...words } = await checkKind(context, asked);
  const newest = asked.pins ? asked.pins.newestDomain : newestDomain(context.db);
  const pins = { ...pinsOf(context, order), ...(newest === undefined ? {} : { newestDomain: newest }) };
  if (asked.pins && !isSame(asked.pins, pins))
    throw new Problem(
      'not-found',
      `${words.subject} is not what it was when this was asked for: it was removed, and another one has its name.`,
      'Ask for it anew.',
    );
  return { order: { ...order, pins }, ...words };
}

/** Whom an order means now. */
function pinsOf({ db }: TransferDeps, order: TransferOrder): OrderPins {
  const domainNamed = (name: string): number | null => findDomainFacts(db, name)?.id ?? null;
  const mailboxes: Record<string, number> = {};
  const pin = (address: string | null): void => {
    const [local = '', domain = ''] = (address ?? '').split('@');
    const id = lookUpMailbox(db, local, domain)?.id;
    if (address !== null && id !== undefined) mailboxes[address] = id;
  };
  const none = { customerId: null, domainId: null };
  switch (order.kind) {
    case 'recover':
      pin(order.into);
      return { ...none, domainId: order.into === null ? domainNamed(domainSide(`@${order.whose}`)) : null, mailboxes };
    case 'files':
      pin(order.into);
      return { ...none, mailboxes };
    case 'imap':
      for (const one of order.accounts) pin(one.into);
      return { ...none, mailboxes };
    case 'export':
      if (order.what === 'mailbox') pin(order.name);
      return {
        customerId: order.what === 'customer' ? (findCustomer(db, order.name)?.id ?? null) : null,
        domainId: order.what === 'domain' ? domainNamed(order.name) : null,
        mailboxes,
      };
  }
}

const isSame = (one: OrderPins, other: OrderPins): boolean =>
  one.customerId === other.customerId &&
  one.domainId === other.domainId &&
  Object.entries(one.mailboxes).every(([address, id]) => other.mailboxes[address] === id);

function checkKind(context: TransferDeps, order: TransferOrder): CheckedOrder | Promise<CheckedOrder> {
  switch (order.kind) {
    case 'recover':
      return checkRecover(context, order);
    case 'files':
      return checkFiles(context, order);
    case 'imap':
      return checkImap(context, order);
    case 'export':
      return checkExport(context, order);
  }
}

async function checkRecover(context: TransferDeps, order: RecoverOrder): Promise<CheckedOrder> {
  const { target, backup, into } = order;
  const whose = order.whose.toLowerCase();
  await context.backups.meant(target, backup).catch((error: unknown) => {
    if (error instanceof Problem) throw badInput('backup', error.detail, 'List them: tenedor backup list');
    throw error;
  });
  const domain = whose.slice(whose.lastIndexOf('@') + 1);
  if (into === null) requireHome(requireDomain(context, domain));
  else if (!whose.includes('@'))
    throw badInput('into', 'All of a domain goes to its own mailboxes.', 'Name one address, or leave out the other mailbox.');
  const own = into === null ? null : requireMailbox(context, into).address;
  return {
    order: { ...order, whose, into: own },
    subject: whose,
    place: `from the backup ${backup}${own === null ? '' : `, into ${own}`}`,
  };
}

async function checkFiles(context: TransferDeps, order: FilesOrder): Promise<CheckedOrder> {
  const path = wholePath(order.path);
  const found = await lookAt(path, context.backupSettings.data);
  if (found.kind === 'nothing')
    throw badInput(
      'path',
      `There is no ${path.slice(0, 200)} on the server, or its user may not see it.`,
      'Put it there, and let the user of the service read it.',
    );
  // Whoever reads what never ends waits for ever, and a link may lead to what is nobody's mail.
  if (found.kind === 'link') throw badInput('path', `${path} is a link.`, 'Name the file or folder itself.');
  if (found.kind === 'other') throw badInput('path', `${path} is neither a file nor a folder.`, 'Name one of these.');
  if (found.isInData) throw badInput('path', `${path} is in the data directory.`, 'Name a place outside of it.');
  const into = order.into === null ? null : requireMailbox(context, order.into).address;
  if (into === null && found.kind === 'folder' && !found.isExport)
    throw badInput('into', 'These are files without a word of whose they are.', 'Name the mailbox that gets them.');
  return { order: { ...order, path, into }, subject: into ?? 'the mailboxes of an export', place: `from ${path}` };
}

function checkImap(context: TransferDeps, order: ImapOrder): CheckedOrder {
  const accounts = order.isTrial
    ? order.accounts
    : order.accounts.map((one) => ({ ...one, into: requireMailbox(context, one.into).address }));
  const [first, ...more] = accounts;
  if (!first) throw badInput('accounts', 'No account is named.', 'Name at least one: who it is there, and the mailbox here.');
  const twice = accounts.find((one, place) => accounts.findIndex((other) => other.into === one.into) !== place);
  if (twice)
    throw badInput('accounts', `${twice.into} is named twice.`, 'Bring in one account after the other where one mailbox takes several.');
  const without = accounts.find((one) => one.password === null);
  if (order.master === null && without)
    throw badInput(
      'accounts',
      `There is no password for ${without.user.slice(0, 80)}.`,
      'Give each account its password, or use a master user.',
    );
  return {
    order: { ...order, accounts },
    subject: more.length === 0 ? first.into : count(accounts.length, 'mailbox', 'mailboxes'),
    place: `from ${order.host}`,
  };
}

async function checkExport(context: TransferDeps, order: ExportOrder): Promise<CheckedOrder> {
  const { what, isArchive } = order;
  const path = wholePath(order.path);
  const name =
    what === 'mailbox'
      ? requireMailbox(context, order.name).address
      : what === 'domain'
        ? requireDomain(context, order.name).name
        : requireCustomer(context, order.name).name;
  const folder = dirname(path);
  const found = await lookAt(path, context.backupSettings.data);
  if (found.isInData) throw badInput('path', `${path} is in the data directory.`, 'Name a place outside of it.');
  if (found.kind === 'link') throw badInput('path', `${path} is a link.`, 'Name the place itself.');
  if (isArchive && found.kind !== 'nothing') throw badInput('path', `${path} already exists.`, 'Name a file that is not there yet.');
  if (!isArchive && found.kind !== 'nothing' && !found.isEmpty)
    throw badInput('path', `${path} is not empty.`, 'Name a folder that is empty, or not there yet.');
  if (!found.hasFolder)
    throw badInput('path', `There is no folder ${folder}.`, 'Make it first, and let the user of the service write there.');
  if (!(await mayWrite(folder)))
    throw badInput(
      'path',
      `The service may not write to ${folder}.`,
      'Let its user write there; under systemd, also name it as ReadWritePaths (systemctl edit tenedor).',
    );
  return { order: { ...order, path, name }, subject: name, place: `to ${path}` };
}

/** Without what is too much in it, such as a slash at its end. */
function wholePath(path: string): string {
  if (!isAbsolute(path) || path.includes('\0'))
    throw badInput('path', `“${path.slice(0, 200)}” is not an absolute path.`, 'Give a path on the server that starts with “/”.');
  return resolve(path);
}
