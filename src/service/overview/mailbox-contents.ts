import type { AccessService } from '../../core/mailbox/access-port.ts';
import type { SpecialUse } from '../../core/mailbox/operations.ts';
import { findFolderNamed, listFolders, setKeepDays } from '../../store/folders.ts';
import { addEntry } from '../../store/journeys.ts';
import { Problem } from '../base/problem.ts';
import { requireMailbox } from '../directory/mailboxes.ts';
import type { OverviewDeps } from './deps.ts';

/** What lies in a mailbox, by folders, and who has it open; never a message's text. */
export interface MailboxContents {
  folders: {
    name: string;
    specialUse: SpecialUse | null;
    messages: number;
    unseen: number;
    bytes: number;
    /** How many days messages stay there; null for as long as nobody removes them. */
    keepDays: number | null;
  }[];
  /** Mail programs that are signed in now, the newest first. */
  sessions: { service: AccessService; client: string; program: string | null; since: number }[];
}

export function mailboxContents(context: OverviewDeps, address: string): MailboxContents {
  const { id } = requireMailbox(context, address);
  return {
    folders: listFolders(context.db, id)
      .map(({ name, specialUse, messages, unseen, bytes, keepDays }) => ({ name, specialUse, messages, unseen, bytes, keepDays }))
      .sort((one, other) => Number(other.name === 'INBOX') - Number(one.name === 'INBOX')),
    sessions: context.desk
      .of(id)
      .map(({ service, client, program, since }) => ({ service, client, program, since }))
      .sort((one, other) => other.since - one.since),
  };
}

/** Sets how long messages stay in a folder of a mailbox. */
export async function setRetention(
  context: OverviewDeps,
  address: string,
  folder: string,
  keepDays: number | null,
): Promise<MailboxContents> {
  const { db, clock } = context;
  await db.commit(() => {
    const mailbox = requireMailbox(context, address);
    const found = findFolderNamed(db, mailbox.id, folder);
    if (!found)
      throw new Problem(
        'not-found',
        `${mailbox.address} has no folder “${folder.slice(0, 80)}”.`,
        `List its folders: tenedor mailbox show ${mailbox.address}`,
        'folder',
      );
    setKeepDays(db, found.id, keepDays);
    addEntry(db, {
      at: clock.now(),
      journeyId: null,
      domain: mailbox.domain,
      event: 'retention-changed',
      data: { address: mailbox.address, folder, days: keepDays },
    });
  });
  return mailboxContents(context, address);
}
