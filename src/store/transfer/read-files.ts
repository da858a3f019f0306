import { type Dirent, lstatSync, readdirSync, statSync } from 'node:fs';
import { basename, join, relative } from 'node:path';
import { readMailDate } from '../../core/mime/date.ts';
import { fieldsOf, firstField } from '../../core/mime/header.ts';
import { NotMbox } from '../../core/transfer/mbox.ts';
import type { FilesOrder } from '../../core/transfer/order.ts';
import type { Sink } from '../../core/transfer/sink.ts';
import { statusFlags } from '../../core/transfer/status-flags.ts';
import { leadsInto } from '../make-folder.ts';
import { reasonOf, StoreError } from '../open-data.ts';
import { type From, intoMailbox, mboxOf, opened, tooLarge } from './into-mailbox.ts';
import { manifestIn, readExport } from './read-export.ts';
import { isArchive, type NotUnpacked, unpacked } from './unpack.ts';

const DEEPEST = 20;
const MOST_HEADER = 64 * 1024;
/** Brings in what lies in files. Throws StoreError when nothing can be read. */
export async function readFiles(order: FilesOrder, limits: { data: string; mostOctets: number }, sink: Sink): Promise<void> {
  // It may have become another thing since it was asked for.
  if (lstatSync(order.path).isSymbolicLink() || leadsInto(order.path, limits.data))
    throw new StoreError(`${order.path} is a link, or inside the data directory.`);
  return readPlace(order, limits, sink);
}

async function readPlace(
  order: FilesOrder,
  limits: { data: string; mostOctets: number },
  sink: Sink,
  leftOut: readonly NotUnpacked[] | null = null,
): Promise<void> {
  if (isArchive(order.path)) {
    const place = await unpacked(order.path, limits.data);
    try {
      return await readPlace({ ...order, path: place.folder }, limits, sink, place.leftOut);
    } finally {
      place.remove();
    }
  }
  const manifest = manifestIn(order.path);
  if (manifest) return readExport(order, manifest, limits.mostOctets, sink);
  if (order.into === null) throw new StoreError(`${order.path} is not an export, so the mailbox is unknown: name it.`);
  const { path } = order;
  // Where an archive was unpacked is nobody's business.
  const shown = (one: string): string => (leftOut === null ? one : relative(path, one));
  await intoMailbox(sink, order.into, { mostOctets: limits.mostOctets, shown }, async (from) => {
    for (const { name, why } of leftOut ?? []) from.carrier.leaveOut(name, why);
    if (lstatSync(order.path).isDirectory()) return readFolder(from, order.path, order.folder ?? '', 0);
    await readOne(from, order.path, order.folder ?? nameOf(basename(order.path)));
  });
}

/** `Inbox.mbox.gz`: Inbox. */
const nameOf = (file: string): string => file.replace(/\.gz$/i, '').replace(/\.(mbox|mbx|eml)$/i, '');

async function readFolder(from: From, path: string, folder: string, depth: number): Promise<void> {
  if (depth > DEEPEST) return from.carrier.leaveOut(from.shown(path), 'Folders are nested too deeply.');
  let entries: Dirent[];
  try {
    entries = readdirSync(path, { withFileTypes: true }).sort((one, other) => (one.name < other.name ? -1 : 1));
  } catch (error) {
    return from.carrier.leaveOut(from.shown(path), `It can’t be read: ${reasonOf(error)}.`);
  }
  const below = (name: string): string => (folder === '' ? name : `${folder}/${name}`);
  for (const one of entries) {
    const place = join(path, one.name);
    if (one.name.startsWith('.')) from.carrier.leaveOut(from.shown(place), 'It is hidden: its name begins with a dot.');
    else if (one.isDirectory()) await readFolder(from, place, below(one.name), depth + 1);
    // What leads elsewhere is not followed.
    else if (!one.isFile()) from.carrier.leaveOut(from.shown(place), 'It is neither a file nor a folder.');
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
    if (error instanceof NotMbox) from.carrier.leaveOut(from.shown(path), 'It is neither a message (.eml) nor an mbox.');
    else if ((error as { code?: unknown }).code !== undefined)
      from.carrier.leaveOut(from.shown(path), `It cannot be read completely: ${reasonOf(error)}.`);
    else throw error;
  }
}

async function readMessage(from: From, path: string): Promise<void> {
  const parts: Buffer[] = [];
  let size = 0;
  for await (const some of opened(path)) {
    size += some.length;
    if (size > from.mostOctets) return from.carrier.leaveOut(from.shown(path), tooLarge(null, from.mostOctets));
    parts.push(some);
  }
  const text = withLineEnds(Buffer.concat(parts));
  if (text.length === 0) return from.carrier.leaveOut(from.shown(path), 'It is empty.');
  await from.carrier.add({ text, flags: 0, keywords: '', internalDate: dateOf(text) ?? statSync(path).mtimeMs, key: null });
}

/** RFC 5322 §2.1: lines end with CRLF; files of some systems have LF alone. */
const withLineEnds = (text: Buffer): Buffer =>
  text.includes('\r\n') ? text : Buffer.from(text.toString('latin1').replaceAll('\n', '\r\n'), 'latin1');

function dateOf(text: Buffer): number | null {
  const date = firstField(fieldsOf(text, 0, Math.min(text.length, MOST_HEADER)), 'date');
  return date === null ? null : readMailDate(date);
}
