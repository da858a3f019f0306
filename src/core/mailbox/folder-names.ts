/** The folder that mail comes into; its name is the same in any case (RFC 3501 §5.1). */
export const INBOX = 'INBOX';

/** Between the names of folders in folders. */
export const SEPARATOR = '/';

/** Where the folders of others are shown (RFC 2342): `Shared/info@shop.example/INBOX`. */
export const SHARED = 'Shared';
export const sharedName = (address: string, folder: string): string => [SHARED, address, folder].join(SEPARATOR);

/** Whose folder a name means, and which; null when it is none of another's. */
export function sharedPlace(name: string): { address: string; folder: string } | null {
  const found = /^Shared\/([^@]+@[^/]+)\/(.+)$/s.exec(name);
  if (!found) return null;
  const [, address = '', folder = ''] = found;
  return { address: address.toLowerCase(), folder: inboxInCapitals(folder) };
}

/** A name of a folder as it is kept: INBOX in capitals, also before a slash; null for one that can't be. */
export function folderName(name: string): string | null {
  if (name === '' || name.length > 500 || Buffer.byteLength(name) > 900 || /[\p{Cc}\p{Cs}\u2028\u2029]/u.test(name)) return null;
  if (name.startsWith(SEPARATOR) || name.endsWith(SEPARATOR) || name.includes(SEPARATOR + SEPARATOR)) return null;
  const kept = name.normalize('NFC');
  const shared = sharedPlace(kept);
  return shared ? sharedName(shared.address, shared.folder) : inboxInCapitals(kept);
}

function inboxInCapitals(name: string): string {
  const [first = '', ...more] = name.split(SEPARATOR);
  return [first.toUpperCase() === INBOX ? INBOX : first, ...more].join(SEPARATOR);
}
