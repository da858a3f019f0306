import type { MailForm } from '../vocabulary.ts';

export const EXPORT_MANIFEST = 'manifest.json';
export const CHECKSUMS = 'checksums.txt';
/** The list of a mailbox's messages, beside its folders. */
export const MESSAGE_LIST = 'messages.csv';
export const FOLDER_LIST = 'folders.csv';

/** What an export says of itself. */
export interface ExportManifest {
  export: 1;
  /** The version of Tenedor that wrote it, and its host. */
  version: string;
  host: string;
  at: string;
  what: 'mailbox' | 'domain' | 'customer';
  name: string;
  form: MailForm;
  mailboxes: { address: string; path: string; messages: number; bytes: number }[];
  leftOut: number;
  /** SHA-256 of the file that has the checksums of all others. */
  checksums: string;
}

/** Null for what is no manifest of an export. */
export function readExportManifest(text: string): ExportManifest | null {
  let value: Partial<ExportManifest> | null;
  try {
    value = JSON.parse(text);
  } catch {
    return null;
  }
  const isPath = (path: unknown): boolean =>
    typeof path === 'string' && path.length < 2000 && !path.startsWith('/') && !path.split('/').some((one) => one === '..' || one === '');
  const isWhole =
    value?.export === 1 &&
    Array.isArray(value.mailboxes) &&
    value.mailboxes.length <= 100_000 &&
    value.mailboxes.every((one) => typeof one?.address === 'string' && one.address.length <= 320 && isPath(one.path)) &&
    typeof value.checksums === 'string';
  return isWhole ? (value as ExportManifest) : null;
}

/** scrypt as others can read it (the PHC string format); null for a hash that nobody else could compare with. */
export function portableHash(kept: string): string | null {
  if (kept.startsWith('$')) return kept;
  const [scheme, n, r, p, salt = '', key = ''] = kept.split('$');
  if (scheme !== 'scrypt') return null;
  const bare = (base64: string): string => base64.replace(/=+$/, '');
  return `$scrypt$ln=${Math.log2(Number(n))},r=${r},p=${p}$${bare(salt)}$${bare(key)}`;
}
