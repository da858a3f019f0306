import { createHash } from 'node:crypto';
import { createReadStream, type Dirent, existsSync, lstatSync, readdirSync, readFileSync, statSync } from 'node:fs';
import { basename, join } from 'node:path';
import { pipeline } from 'node:stream';
import { createGunzip } from 'node:zlib';
import { parse } from 'csv-parse/sync';
import { plainCell } from '../../core/csv-cell.ts';
import { flagsOf } from '../../core/mailbox/flags.ts';
import { SPECIAL_USES, type SpecialUse } from '../../core/mailbox/operations.ts';
import { readMailDate } from '../../core/mime/date.ts';
import { fieldsOf, firstField } from '../../core/mime/header.ts';
import { Carrier, MailboxRefused } from '../../core/transfer/carrier.ts';
import {
  CHECKSUMS,
  EXPORT_MANIFEST,
  type ExportManifest,
  FOLDER_LIST,
  MESSAGE_LIST,
  readExportManifest,
} from '../../core/transfer/manifest.ts';
import { MboxReader, NotMbox } from '../../core/transfer/mbox.ts';
import type { FilesOrder } from '../../core/transfer/order.ts';
import type { Sink } from '../../core/transfer/sink.ts';
import { statusFlags } from '../../core/transfer/status-flags.ts';
import { leadsInto } from '../make-folder.ts';
import { reasonOf, StoreError } from '../open-data.ts';
import { isArchive, unpacked } from './unpack.ts';

const DEEPEST = 20;
const MOST_HEADER = 64 * 1024;
/** A list of messages is read whole. */
const MOST_LIST = 512 * 1024 * 1024;

interface From {
  carrier: Carrier;
  mostOctets: number;
}

/** Brings in what lies in files. Throws StoreError when nothing can be read. */
export async function readFiles(order: FilesOrder, limits: { data: string; mostOctets: number }, sink: Sink): Promise<void> {
  // It may have become another thing since it was asked for.
  if (lstatSync(order.path).isSymbolicLink() || leadsInto(order.path, limits.data))
    throw new StoreError(`${order.path} is a link, or leads into the data directory.`);
  return readPlace(order, limits, sink);
}

async function readPlace(order: FilesOrder, limits: { data: string; mostOctets: number }, sink: Sink): Promise<void> {
  if (isArchive(order.path)) {
    const place = await unpacked(order.path, limits.data);
    try {
      return await readPlace({ ...order, path: place.folder }, limits, sink);
    } finally {
      place.remove();
    }
  }
  const manifest = manifestIn(order.path);
  if (manifest) return readExport(order, manifest, limits.mostOctets, sink);
  if (order.into === null) throw new StoreError(`${order.path} is no export, so it says nothing of whose mail it is: name the mailbox.`);
  await intoMailbox(sink, order.into, limits.mostOctets, async (from) => {
    if (lstatSync(order.path).isDirectory()) return readFolder(from, order.path, order.folder ?? '', 0);
    await readOne(from, order.path, order.folder ?? nameOf(basename(order.path)));
  });
}

async function intoMailbox(sink: Sink, address: string, mostOctets: number, work: (from: From) => Promise<void>): Promise<void> {
  const opened = await sink.open(address, null);
  if ('refused' in opened) return;
  const carrier = new Carrier(sink, opened.part, 0);
  try {
    await work({ carrier, mostOctets });
    await carrier.flush();
    sink.close(opened.part, null);
  } catch (error) {
    if (!(error instanceof MailboxRefused)) throw error;
    sink.close(opened.part, error.message);
  }
}

/** `Inbox.mbox.gz`: Inbox. */
const nameOf = (file: string): string => file.replace(/\.gz$/i, '').replace(/\.(mbox|mbx|eml)$/i, '');

async function readFolder(from: From, path: string, folder: string, depth: number): Promise<void> {
  if (depth > DEEPEST) return from.carrier.leaveOut(path, 'Folders lie deeper in one another than is read.');
  let entries: Dirent[];
  try {
    entries = readdirSync(path, { withFileTypes: true }).sort((one, other) => (one.name < other.name ? -1 : 1));
  } catch (error) {
    return from.carrier.leaveOut(path, `It can’t be read: ${reasonOf(error)}.`);
  }
  const below = (name: string): string => (folder === '' ? name : `${folder}/${name}`);
  for (const one of entries) {
    if (one.name.startsWith('.')) continue;
    const place = join(path, one.name);
    if (one.isDirectory()) await readFolder(from, place, below(one.name), depth + 1);
    // What leads elsewhere is not followed.
    else if (!one.isFile()) from.carrier.leaveOut(place, 'It is neither a file nor a folder.');
    else await readOne(from, place, isMessage(one.name) ? folder || 'INBOX' : below(nameOf(one.name)));
  }
}

const isMessage = (name: string): boolean => /\.eml(\.gz)?$/i.test(name);

/** A file with one message, or an mbox. */
async function readOne(from: From, path: string, folder: string): Promise<void> {
  await from.carrier.enter({ name: folder, specialUse: null });
  try {
    if (isMessage(path)) return await readMessage(from, path);
    for await (const { text, at } of mboxOf(from, path)) {
      const flags = statusFlags(text);
      await from.carrier.add({ text, flags, keywords: '', internalDate: at ?? dateOf(text), key: null });
    }
  } catch (error) {
    if (error instanceof NotMbox) from.carrier.leaveOut(path, 'It is neither a message (.eml) nor an mbox.');
    else if ((error as { code?: unknown }).code !== undefined)
      from.carrier.leaveOut(path, `It can’t be read to its end: ${reasonOf(error)}.`);
    else throw error;
  }
}

async function readMessage(from: From, path: string): Promise<void> {
  const parts: Buffer[] = [];
  let size = 0;
  for await (const some of opened(path)) {
    size += some.length;
    if (size > from.mostOctets) return from.carrier.leaveOut(path, tooLarge(null, from.mostOctets));
    parts.push(some);
  }
  const text = withLineEnds(Buffer.concat(parts));
  if (text.length === 0) return from.carrier.leaveOut(path, 'It is empty.');
  await from.carrier.add({ text, flags: 0, keywords: '', internalDate: dateOf(text) ?? statSync(path).mtimeMs, key: null });
}

const tooLarge = (size: number | null, most: number): string =>
  `It ${size === null ? 'is' : `has ${size} octets, which is`} larger than the ${most} octets that a message may have here.`;

/** RFC 5322 §2.1: lines end with CRLF; files of some systems have LF alone. */
const withLineEnds = (text: Buffer): Buffer =>
  text.includes('\r\n') ? text : Buffer.from(text.toString('latin1').replaceAll('\n', '\r\n'), 'latin1');

function dateOf(text: Buffer): number | null {
  const date = firstField(fieldsOf(text, 0, Math.min(text.length, MOST_HEADER)), 'date');
  return date === null ? null : readMailDate(date);
}

/** The octets of a file, unpacked where it is compressed. */
function opened(path: string): AsyncIterable<Buffer> {
  const file = createReadStream(path, { highWaterMark: 256 * 1024 });
  return /\.gz$/i.test(path) ? pipeline(file, createGunzip(), () => {}) : file;
}

async function* mboxOf(
  { carrier, mostOctets }: From,
  path: string,
  hash = createHash('sha256'),
): AsyncGenerator<{ text: Buffer; at: number | null; place: number }> {
  const reader = new MboxReader(mostOctets);
  let place = 0;
  const taken = function* (items: ReturnType<MboxReader['push']>) {
    for (const one of items) {
      place += 1;
      if (one.kind === 'message') yield { text: one.text, at: one.at, place };
      else carrier.leaveOut(`message ${place} of ${path}`, tooLarge(one.size, mostOctets));
    }
  };
  for await (const some of opened(path)) {
    hash.update(some);
    yield* taken(reader.push(some));
  }
  yield* taken(reader.end());
}

function manifestIn(path: string): ExportManifest | null {
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
async function readExport(order: FilesOrder, manifest: ExportManifest, mostOctets: number, sink: Sink): Promise<void> {
  const sums = checksumsOf(order.path, manifest);
  const { mailboxes } = manifest;
  const [first, ...more] = mailboxes;
  if (order.into !== null && more.length > 0)
    throw new StoreError(`The export has ${mailboxes.length} mailboxes: they go to their own addresses, so leave out the mailbox.`);
  if (!first) throw new StoreError('The export has no mailbox.');
  for (const one of mailboxes) {
    await intoMailbox(sink, order.into ?? one.address, mostOctets, (from) =>
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
    throw new StoreError(`The export’s ${CHECKSUMS} is not what was written.`);
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
      carrier.leaveOut(file, 'It is no mbox.');
    }
    if (hash.digest('hex') !== wanted)
      carrier.leaveOut(file, 'It is not what was written: its checksum differs. What could be read of it was taken.');
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
  if (createHash('sha256').update(text).digest('hex') !== wanted)
    return carrier.leaveOut(row.file, 'It is not what was written: its checksum differs.');
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
    throw new StoreError(`${known} of the export is not what was written: its checksum differs.`);
  return parse(text, { columns: true, relaxColumnCount: true, bom: true, cast: plainCell }) as Row[];
}
