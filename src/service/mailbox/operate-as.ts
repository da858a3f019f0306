import { domainSide } from '../../core/address/sides.ts';
import type { SharedAct } from '../../core/journal/events.ts';
import { sharedPlace } from '../../core/mailbox/folder-names.ts';
import type { MailboxOperation, OperationResult } from '../../core/mailbox/operations.ts';
import { flagMask, masked, mayAll } from '../../core/mailbox/rights.ts';
import { findFolderNamed, nameOfFolder } from '../../store/folders.ts';
import { addEntry } from '../../store/journeys.ts';
import { addressOfMailbox, lookUpMailbox } from '../../store/mailboxes.ts';
import { folderRights, memberRights, ownerOfFolder } from '../../store/shared-mailboxes.ts';
import { copyOrMove } from './copy-messages.ts';
import type { MailboxDeps } from './deps.ts';
import { operate } from './operate.ts';
import { NO_FOLDER, type Refused, refused } from './operation-refusals.ts';

const NO_RIGHT = refused('no-right', 'You do not have the right to do that');
const APART = refused('not-possible', 'This is not possible between two mailboxes');
const NO_FLAGS = { flags: 0, keywords: '' };

/** A folder, or a name for one, in the mailbox that it is of. */
interface Place {
  mailboxId: number;
  /** Within that mailbox. */
  name: string;
}

/**
 * Does what somebody who has signed in to one mailbox asks, in that mailbox or in another that is shared with it: as far as its rights go (RFC 4314), and with
 * a line in the journal of the mailbox that is changed.
 */
export async function operateAs(context: MailboxDeps, self: number, operation: MailboxOperation): Promise<OperationResult> {
  const { db } = context;
  const placeOf = (name: string): Place | null => {
    // A folder of one's own that is called so goes first.
    const shared = findFolderNamed(db, self, name) ? null : sharedPlace(name);
    if (!shared) return { mailboxId: self, name };
    const { address, folder } = shared;
    const found = lookUpMailbox(db, address.slice(0, address.lastIndexOf('@')), domainSide(address));
    return found ? { mailboxId: found.id, name: folder } : null;
  };
  /** What may be done with a folder; empty for one that is hidden. */
  const rightsAt = (mailboxId: number, folderId: number | undefined): string => {
    const rights = folderId === undefined ? memberRights(db, mailboxId, self) : folderRights(db, mailboxId, folderId, self);
    return rights.includes('l') ? rights : '';
  };
  /** Null when all that is needed may be done there. What may not even be seen is not there. */
  const why = ({ mailboxId, name }: Place, needed: string): Refused | null => {
    if (mailboxId === self) return null;
    const rights = rightsAt(mailboxId, findFolderNamed(db, mailboxId, name)?.id);
    return rights === '' ? NO_FOLDER : mayAll(rights, needed) ? null : NO_RIGHT;
  };
  /** Where a new name would lie: what may be made there is said by the folder above, or by the mailbox. */
  const whyNotMade = ({ mailboxId, name }: Place): Refused | null => {
    if (mailboxId === self) return null;
    const above = name.slice(0, Math.max(0, name.lastIndexOf('/')));
    const rights = rightsAt(mailboxId, above === '' ? undefined : findFolderNamed(db, mailboxId, above)?.id);
    return rights === '' ? NO_FOLDER : rights.includes('k') ? null : NO_RIGHT;
  };
  const done = async ({ mailboxId, name }: Place, act: SharedAct, work: Promise<OperationResult>): Promise<OperationResult> => {
    const result = await work;
    const messages = touched(result);
    if (mailboxId !== self && result.kind !== 'refused' && messages !== 0)
      noteAct(context, self, mailboxId, { act, folder: name, messages });
    return result;
  };
  switch (operation.kind) {
    case 'flag':
    case 'expunge':
    case 'copy':
    case 'move': {
      const owner = ownerOfFolder(db, operation.folder);
      if (owner === undefined) return NO_FOLDER;
      const rights = owner === self ? null : rightsAt(owner, operation.folder);
      if (rights === '') return NO_FOLDER;
      const source = { mailboxId: owner, name: nameOfFolder(db, operation.folder) ?? '' };
      if (operation.kind === 'flag') {
        if (rights === null) return operate(context, self, operation);
        const mask = flagMask(rights);
        return mask.bits === 0 ? NO_RIGHT : operate(context, owner, { ...operation, mask });
      }
      if (operation.kind === 'expunge') {
        if (rights !== null && !rights.includes('e')) return NO_RIGHT;
        return done(source, 'expunged', operate(context, owner, operation));
      }
      const target = placeOf(operation.to);
      if (!target) return NO_FOLDER;
      if (rights !== null && !mayAll(rights, operation.kind === 'move' ? 'rte' : 'r')) return NO_RIGHT;
      const refusal = why(target, 'i');
      if (refusal) return refusal;
      const mask =
        target.mailboxId === self ? null : flagMask(rightsAt(target.mailboxId, findFolderNamed(db, target.mailboxId, target.name)?.id));
      const moved = copyOrMove(context, owner, { ...operation, to: target.name }, { targetMailbox: target.mailboxId, mask });
      const into = done(target, operation.kind === 'move' ? 'moved-in' : 'copied-in', moved);
      return operation.kind === 'move' ? done(source, 'moved-out', into) : into;
    }
    case 'append': {
      const place = placeOf(operation.to);
      if (!place) return NO_FOLDER;
      const refusal = why(place, 'i');
      if (refusal) return refusal;
      if (place.mailboxId === self && (operation.instead === null || ownerOfFolder(db, operation.instead.folder) === self))
        return operate(context, self, operation);
      if (operation.instead && ownerOfFolder(db, operation.instead.folder) !== place.mailboxId) return APART;
      if (operation.instead && !mayAll(rightsAt(place.mailboxId, operation.instead.folder), 'te')) return NO_RIGHT;
      const mask = flagMask(rightsAt(place.mailboxId, findFolderNamed(db, place.mailboxId, place.name)?.id));
      const messages = operation.messages.map((one) => ({ ...one, ...masked(NO_FLAGS, one, mask) }));
      return done(place, 'added', operate(context, place.mailboxId, { ...operation, to: place.name, messages }));
    }
    case 'create':
    case 'delete':
    case 'grant': {
      const place = placeOf(operation.name);
      if (!place) return NO_FOLDER;
      const refusal = operation.kind === 'create' ? whyNotMade(place) : why(place, operation.kind === 'delete' ? 'x' : 'a');
      if (refusal) return refusal;
      const act = ({ create: 'created', delete: 'deleted', grant: 'granted' } as const)[operation.kind];
      return done(place, act, operate(context, place.mailboxId, { ...operation, name: place.name }));
    }
    case 'rename': {
      const [from, to] = [placeOf(operation.name), placeOf(operation.to)];
      if (!from || !to) return NO_FOLDER;
      if (from.mailboxId !== to.mailboxId) return APART;
      const refusal = why(from, 'x') ?? whyNotMade(to);
      if (refusal) return refusal;
      return done(from, 'renamed', operate(context, from.mailboxId, { ...operation, name: from.name, to: to.name }));
    }
    case 'subscribe':
    case 'remove':
      return operate(context, self, operation);
  }
}

/** How many messages something was done to; null where it was not done to messages. */
const touched = (result: OperationResult): number | null =>
  result.kind === 'copied'
    ? result.to.length
    : result.kind === 'appended'
      ? result.uids.length
      : result.kind === 'done'
        ? (result.messages ?? null)
        : null;

/** Who did what in a mailbox that several people share. */
function noteAct(
  { db, clock, log }: MailboxDeps,
  self: number,
  mailboxId: number,
  what: { act: SharedAct; folder: string; messages: number | null },
): void {
  const [by, address] = [addressOfMailbox(db, self), addressOfMailbox(db, mailboxId)];
  if (by === undefined || address === undefined) return;
  db.commit(
    () =>
      addEntry(db, {
        at: clock.now(),
        journeyId: null,
        domain: domainSide(address),
        event: 'shared-mailbox-used',
        data: { address, by, ...what },
      }),
    { withinMs: 50, isRepeatable: true },
  ).catch((error: unknown) => log.warn({ fault: String(error) }, 'changes in a shared mailbox could not be recorded'));
}
