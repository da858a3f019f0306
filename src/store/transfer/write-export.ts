import { createHash } from 'node:crypto';
import { join } from 'node:path';
import { stringify } from 'csv-stringify/sync';
import { harmlessCell } from '../../core/csv-cell.ts';
import { flagNames } from '../../core/mailbox/flags.ts';
import type { Folder } from '../../core/mailbox/operations.ts';
import { CHECKSUMS, EXPORT_MANIFEST, type ExportManifest, FOLDER_LIST, MESSAGE_LIST, portableHash } from '../../core/transfer/manifest.ts';
import { mboxEntry } from '../../core/transfer/mbox.ts';
import type { ExportOrder } from '../../core/transfer/order.ts';
import { folderPath, safeName } from '../../core/transfer/paths.ts';
import { senderOf } from '../../core/transfer/return-path.ts';
import type { Sink } from '../../core/transfer/sink.ts';
import { findDomain, findRecipientList } from '../domains.ts';
import { listFolders, listMessages, listSubscribed } from '../folders.ts';
import { TextLost } from '../message-files.ts';
import { isNoSpace } from '../no-space.ts';
import { reasonOf, StoreError } from '../open-data.ts';
import { DATABASE_FILE, type Readable, ReadDatabase } from '../read-database.ts';
import { TextReader } from '../text-reader.ts';
import { ArchiveExport, type ExportFile, type ExportFiles, FolderExport } from './export-files.ts';
import { aliasesExported, domainsExported, type ExportedMailbox, mailboxesExported, membersExported } from './export-rows.ts';
import type { ExportAbout } from './thread.ts';

const A_PAGE = 500;

interface Parts {
  order: ExportOrder;
  about: ExportAbout;
  db: Readable;
  texts: TextReader;
  files: ExportFiles;
  sink: Sink;
}

/** Writes an export, all or nothing. Returns what it says of itself. Throws StoreError for what the disk says. */
export async function writeExport(order: ExportOrder, about: ExportAbout, data: string, sink: Sink): Promise<string> {
  const db = ReadDatabase.open(join(data, DATABASE_FILE));
  let files: ExportFiles | null = null;
  try {
    files = order.isArchive ? new ArchiveExport(order.path, about.at) : new FolderExport(order.path);
    const parts: Parts = { order, about, db, texts: new TextReader(db, data), files, sink };
    const mailboxes: (ExportManifest['mailboxes'][number] & { leftOut: number })[] = [];
    for (const domain of domainsExported(db, order)) mailboxes.push(...(await writeDomain(parts, domain)));
    const checksums = files.checksums();
    await writeWhole(files, CHECKSUMS, checksums);
    const manifest: ExportManifest = {
      export: 1,
      ...{ version: about.version, host: about.host, at: new Date(about.at).toISOString() },
      ...{ what: order.what, name: order.name, form: order.form },
      mailboxes: mailboxes.map(({ leftOut: _leftOut, ...one }) => one),
      leftOut: mailboxes.reduce((sum, one) => sum + one.leftOut, 0),
      checksums: createHash('sha256').update(checksums).digest('hex'),
    };
    await writeWhole(files, EXPORT_MANIFEST, asJson(manifest));
    await files.finish();
    return `All of it is in ${order.path}.`;
  } catch (error) {
    files?.drop();
    if (error instanceof StoreError) throw error;
    if (isNoSpace(error) || (error as { code?: unknown }).code !== undefined)
      throw new StoreError(`${order.path} could not be written: ${reasonOf(error)}. The incomplete export was removed.`);
    throw error;
  } finally {
    db.close();
  }
}

const asJson = (value: unknown): string => `${JSON.stringify(value, null, 2)}\n`;
const asCsv = (columns: readonly string[], rows: readonly (readonly unknown[])[]): string =>
  stringify([[...columns], ...rows.map((row) => row.map(harmlessCell))]);

async function writeWhole(files: ExportFiles, path: string, text: string): Promise<void> {
  const file = files.file(path);
  file.write(text);
  await file.end();
}

async function writeDomain(
  parts: Parts,
  { id, name }: { id: number; name: string },
): Promise<(ExportManifest['mailboxes'][number] & { leftOut: number })[]> {
  const { db, files, order, about } = parts;
  const place = `domains/${safeName(name)}`;
  const mailboxes = mailboxesExported(db, id, order);
  const aliases = aliasesExported(db, id, order);
  if (order.what !== 'mailbox') {
    const { id: _id, planId: _planId, ...domain } = findDomain(db, name) ?? { id, planId: 0 };
    await writeWhole(files, `${place}/domain.json`, asJson({ ...domain, recipientList: findRecipientList(db, id) }));
    await writeWhole(files, `${place}/zone.txt`, about.zones[name] ?? '');
  }
  await writeAddresses(parts, place, mailboxes, aliases);
  const written = [];
  for (const one of mailboxes) written.push(await writeMailbox(parts, `${place}/mail/${safeName(one.local)}`, one));
  return written;
}

/** Mailboxes in the form in which lists of them are loaded, and aliases. */
async function writeAddresses(
  { db, files, order }: Parts,
  place: string,
  mailboxes: readonly ExportedMailbox[],
  aliases: readonly { address: string; targets: string[] }[],
): Promise<void> {
  const hashOf = (one: ExportedMailbox): string => (order.withHashes ? (portableHash(one.passwordHash) ?? '') : '');
  const localAliases = (address: string): string =>
    aliases
      .filter((one) => one.targets.length === 1 && one.targets[0] === address)
      .map((one) => one.address.slice(0, one.address.lastIndexOf('@')))
      .join(' ');
  await writeWhole(
    files,
    `${place}/mailboxes.csv`,
    asCsv(
      ['address', 'name', 'quota', 'hash', 'aliases'],
      mailboxes.map((one) => [
        one.address,
        one.name ?? '',
        `${Number((one.quotaBytes / 1024).toFixed(3))}K`,
        hashOf(one),
        localAliases(one.address),
      ]),
    ),
  );
  await writeWhole(
    files,
    `${place}/mailboxes.json`,
    asJson(
      mailboxes.map(({ id, local: _local, passwordHash: _hash, createdAt, ...one }) => ({
        ...one,
        createdAt: new Date(createdAt).toISOString(),
        members: membersExported(db, id).map((member) => ({ ...member, maySend: member.maySend === 1 })),
      })),
    ),
  );
  await writeWhole(
    files,
    `${place}/aliases.csv`,
    asCsv(
      ['address', 'targets'],
      aliases.map((one) => [one.address, one.targets.join(' ')]),
    ),
  );
  await writeWhole(files, `${place}/aliases.json`, asJson(aliases));
}

async function writeMailbox(
  parts: Parts,
  place: string,
  mailbox: ExportedMailbox,
): Promise<ExportManifest['mailboxes'][number] & { leftOut: number }> {
  const { db, files, sink } = parts;
  const { address } = mailbox;
  const opened = await sink.open(address, null);
  const part = 'refused' in opened ? null : opened.part;
  const folders = listFolders(db, mailbox.id);
  const subscribed = new Set(listSubscribed(db, mailbox.id));
  await writeWhole(
    files,
    `${place}/${FOLDER_LIST}`,
    asCsv(
      ['folder', 'for', 'subscribed', 'keep days'],
      folders.map((one) => [one.name, one.specialUse ?? '', subscribed.has(one.name) ? 'yes' : 'no', one.keepDays ?? '']),
    ),
  );
  const total = folders.reduce((sum, one) => sum + one.messages, 0);
  const state = { messages: 0, bytes: 0, leftOut: 0 };
  const list = files.file(`${place}/${MESSAGE_LIST}`);
  list.write(asCsv(['folder', 'file', 'place', 'flags', 'keywords', 'received', 'size', 'sha256'], []));
  for (const folder of folders) {
    const tell = (): void => {
      if (part === null) return;
      const done = state.messages + state.leftOut;
      sink.progress(part, {
        done,
        known: 0,
        total: Math.max(total, done),
        folder: folder.name,
        written: { messages: state.messages, octets: state.bytes },
      });
    };
    const leaveOut = (uid: number, why: string): void => {
      state.leftOut += 1;
      if (part !== null) sink.leftOut(part, folder.name, `message ${uid}`, why);
    };
    await writeFolder(parts, place, folder, { list, state, tell, leaveOut });
    tell();
  }
  await list.end();
  if (part !== null) sink.close(part, null);
  return { address, path: place, ...state };
}

async function writeFolder(
  { db, texts, files, order }: Parts,
  place: string,
  folder: Folder,
  to: { list: ExportFile; state: { messages: number; bytes: number }; tell: () => void; leaveOut: (uid: number, why: string) => void },
): Promise<void> {
  const path = folderPath(folder.name);
  const box = order.form === 'mbox' && folder.messages > 0 ? files.file(`${place}/${path}.mbox`) : null;
  let inBox = 0;
  for (let after = 0; ; ) {
    const page = listMessages(db, folder.id, after + 1, folder.nextUid, A_PAGE);
    const last = page.at(-1);
    if (!last) break;
    after = last.uid;
    for (const one of page) {
      let text: Buffer;
      try {
        const size = one.size - Buffer.byteLength(one.prefix);
        text = Buffer.concat([Buffer.from(one.prefix), await texts.slice(one.file, size, 0, size)]);
      } catch (error) {
        if (!(error instanceof TextLost)) throw error;
        // Removed since the page was read, it is not missed.
        if (listMessages(db, folder.id, one.uid, one.uid, 1).length > 0) to.leaveOut(one.uid, 'Its text is lost.');
        continue;
      }
      inBox += 1;
      const file = box ? `${path}.mbox` : `${path}/${String(one.uid).padStart(6, '0')}.eml`;
      if (box) box.write(mboxEntry(text, senderOf(one.prefix), one.internalDate));
      else {
        const single = files.file(`${place}/${file}`);
        single.write(text);
        await single.end();
      }
      to.state.messages += 1;
      to.state.bytes += text.length;
      to.list.write(
        asRow([
          ...[folder.name, file, box ? inBox : '', flagNames({ flags: one.flags, keywords: '' }), one.keywords],
          ...[new Date(one.internalDate).toISOString(), text.length, createHash('sha256').update(text).digest('hex')],
        ]),
      );
    }
    to.tell();
  }
  await box?.end();
}

const asRow = (values: readonly unknown[]): string => stringify([values.map(harmlessCell)]);
