import type { ImapFlow, ListResponse } from 'imapflow';
import type { SpecialUse } from '../core/mailbox/operations.ts';

const USES: Record<string, SpecialUse> = {
  '\\Sent': 'sent',
  '\\Drafts': 'drafts',
  '\\Junk': 'junk',
  '\\Trash': 'trash',
  '\\Archive': 'archive',
};
/** Views of what lies in other folders (RFC 6154 §2). */
const VIEWS = ['\\All', '\\Flagged', '\\Important'];

/** A folder of an account on another server. */
export interface RemoteFolder {
  path: string;
  name: string;
  specialUse: SpecialUse | null;
  messages: number | undefined;
}

/** What is the account's own, with names as they are here. */
export async function foldersOf(client: ImapFlow): Promise<RemoteFolder[]> {
  const listed = await client.list({ statusQuery: { messages: true } });
  const { other = [], shared = [] } = (client.namespaces ?? {}) as { other?: { prefix: string }[]; shared?: { prefix: string }[] };
  const others = [...(other || []), ...(shared || [])].map((one) => one.prefix).filter((prefix) => prefix !== '');
  const isOwn = (one: ListResponse): boolean =>
    !one.flags.has('\\Noselect') &&
    !one.flags.has('\\NonExistent') &&
    !VIEWS.some((view) => one.specialUse === view || one.flags.has(view)) &&
    !others.some((prefix) => one.path.startsWith(prefix));
  return listed.filter(isOwn).map((one) => ({
    path: one.path,
    name: nameHere(one, client.namespace?.prefix ?? ''),
    specialUse: USES[one.specialUse ?? ''] ?? null,
    messages: one.status?.messages,
  }));
}

/** `INBOX.Work.2026` where all is below the Inbox there: Work/2026. */
function nameHere({ path, delimiter }: ListResponse, prefix: string): string {
  const own = prefix !== '' && path.startsWith(prefix) && path.length > prefix.length ? path.slice(prefix.length) : path;
  const parts = delimiter ? own.split(delimiter) : [own];
  return parts.map((part) => part.replaceAll('/', '_')).join('/');
}
