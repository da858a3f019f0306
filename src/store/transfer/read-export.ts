import { createHash } from 'node:crypto';
import { existsSync, lstatSync, readFileSync, statSync } from 'node:fs';
import { join, relative } from 'node:path';
import { parse } from 'csv-parse/sync';
import { plainCell } from '../../core/csv-cell.ts';
import { flagsOf } from '../../core/mailbox/flags.ts';
import { SPECIAL_USES, type SpecialUse } from '../../core/mailbox/operations.ts';
import {
  CHECKSUMS,
  EXPORT_MANIFEST,
  type ExportManifest,
  FOLDER_LIST,
  MESSAGE_LIST,
  readExportManifest,
} from '../../core/transfer/manifest.ts';
import { NotMbox } from '../../core/transfer/mbox.ts';
import type { FilesOrder } from '../../core/transfer/order.ts';
import type { Sink } from '../../core/transfer/sink.ts';
import { StoreError } from '../open-data.ts';
import { type From, intoMailbox, mboxOf, tooLarge } from './into-mailbox.ts';

/** A list of messages is read whole. */
const MOST_LIST = 512 * 1024 * 1024;

export function manifestIn(path: string): ExportManifest | null {
  const file = join(path, EXPORT_MANIFEST);
  if (!lstatSync(path).isDirectory() || !existsSync(file)) return null;
  return statSync(file).size > MOST_LIST ? null : readExportManifest(readFileSync(file, 'utf8'));
}

interface ListedMessage {
  folder: string;
  file: string;
  place: string;
  flags: string;
  keywords: string;
  received: string;
  sha256: string;
}

/** Brings in an export: each mailbox by its address, or the only one into another. */
export async function readExport(order: FilesOrder, manifest: ExportManifest, mostOctets: number, sink: Sink): Promise<void> {
  const sums = checksumsOf(order.path, manifest);
  const { mailboxes } = manifest;
  const [first, ...more] = mailboxes;
  if (order.into !== null && more.length > 0)
    throw new StoreError(`The export has ${mailboxes.length} mailboxes: leave out the mailbox, they are imported into their own.`);
  if (!first) throw new StoreError('The export has no mailbox.');
  for (const one of mailboxes) {
    await intoMailbox(sink, order.into ?? one.address, { mostOctets, shown: (path) => relative(order.path, path) }, (from) =>
      readExported(from, { ...order, path: join(order.path, one.path) }, one, sums),
    );
  }
}

/** The checksums of all files, proven by the manifest. */
function checksumsOf(path: string, manifest: ExportManifest): Map<string, string> {
  const file = join(path, CHECKSUMS);
  if (!existsSync(file) || statSync(file).size > MOST_LIST) throw new StoreError(`The export has no ${CHECKSUMS}.`);
  const text = readFileSync(file, 'utf8');
  if (createHash('sha256').update(text).digest('hex') !== manifest.checksums)
    throw new StoreError(`The export’s ${CHECKSUMS} does not match its checksum.`);
  return new Map(text.split('\n').flatMap((line) => (line.length > 66 ? [[line.slice(66), line.slice(0, 64)] as const] : [])));
}

async function readExported(
  from: From,
  order: FilesOrder,
  mailbox: ExportManifest['mailboxes'][number],
  sums: ReadonlyMap<string, string>,
): Promise<void> {
  const { carrier } = from;
  const rows = listIn<ListedMessage>(order.path, MESSAGE_LIST, `${mailbox.path}/${MESSAGE_LIST}`, sums);
  const uses = new Map(
    listIn<{ folder: string; for: string }>(order.path, FOLDER_LIST, `${mailbox.path}/${FOLDER_LIST}`, sums).map((one) => [
      one.folder,
      one.for,
    ]),
  );
  carrier.total = rows.length;
  const enter = (folder: string): Promise<void> => {
    const use = SPECIAL_USES.find((one): one is SpecialUse => one === uses.get(folder)) ?? null;
    return carrier.enter({
      name: order.folder === null ? folder : `${order.folder}/${folder}`,
      specialUse: order.folder === null ? use : null,
    });
  };
  const byFile = new Map<string, Map<number, ListedMessage>>();
  for (const row of rows) {
    const places = byFile.get(row.file) ?? new Map<number, ListedMessage>();
    places.set(Number(row.place || 1), row);
    byFile.set(row.file, places);
  }
  for (const [file, places] of byFile) {
    const path = join(order.path, file);
    const wanted = sums.get(`${mailbox.path}/${file}`);
    const [row] = places.values();
    if (!row) continue;
    await enter(row.folder);
    if (wanted === undefined || file.split('/').includes('..') || !existsSync(path)) {
      carrier.leaveOut(file, 'It is not in the export.');
      continue;
    }
    if (!file.endsWith('.mbox')) {
      await readExportedMessage(from, path, row, wanted);
      continue;
    }
    const hash = createHash('sha256');
    try {
      for await (const { text, at, place } of mboxOf(from, path, hash)) {
        const row = places.get(place);
        await carrier.add({ text: row ? asWritten(text, row.sha256) : text, ...marksOf(row, at), key: null });
      }
    } catch (error) {
      if (!(error instanceof NotMbox)) throw error;
      carrier.leaveOut(file, 'It is not an mbox.');
    }
    if (hash.digest('hex') !== wanted) carrier.leaveOut(file, 'It does not match its checksum. Readable messages were copied.');
  }
}

/** An mbox has line ends of its own, and one at the end of every message: which of them were there tells the checksum. */
function asWritten(text: Buffer, sha256: string): Buffer {
  const lines = Buffer.from(text.toString('latin1').replaceAll('\r\n', '\n'), 'latin1');
  const isIt = (one: Buffer): boolean => createHash('sha256').update(one).digest('hex') === sha256;
  return [text, text.subarray(0, -2), lines, lines.subarray(0, -1)].find(isIt) ?? text;
}

async function readExportedMessage({ carrier, mostOctets }: From, path: string, row: ListedMessage, wanted: string): Promise<void> {
  if (statSync(path).size > mostOctets) return carrier.leaveOut(row.file, tooLarge(statSync(path).size, mostOctets));
  const text = readFileSync(path);
  if (createHash('sha256').update(text).digest('hex') !== wanted) return carrier.leaveOut(row.file, 'It does not match its checksum.');
  await carrier.add({ text, ...marksOf(row, null), key: null });
}

function marksOf(row: ListedMessage | undefined, at: number | null): { flags: number; keywords: string; internalDate: number | null } {
  const names = `${row?.flags ?? ''} ${row?.keywords ?? ''}`.split(' ').filter((one) => one !== '');
  const received = Date.parse(row?.received ?? '');
  return { ...(flagsOf(names) ?? { flags: 0, keywords: '' }), internalDate: Number.isNaN(received) ? at : received };
}

function listIn<Row>(folder: string, name: string, known: string, sums: ReadonlyMap<string, string>): Row[] {
  const file = join(folder, name);
  if (!existsSync(file) || statSync(file).size > MOST_LIST) throw new StoreError(`The export lacks ${known}.`);
  const text = readFileSync(file);
  if (createHash('sha256').update(text).digest('hex') !== sums.get(known))
    throw new StoreError(`${known} of the export does not match its checksum.`);
  return parse(text, { columns: true, relaxColumnCount: true, bom: true, cast: plainCell }) as Row[];
}
