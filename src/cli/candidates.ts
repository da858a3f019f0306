import type { Argument, Command, Option } from 'commander';
import type { ApiClient } from './client.ts';
import { part } from './client.ts';

/** A word that may come next, and what it means. */
export interface Candidate {
  word: string;
  note: string;
}
/** What may come next: words, or the names of files. */
export type Candidates = Candidate[] | 'files';

/** As many names as a shell shows without asking. */
const MOST = 50;

/** Lists of names, by what a command’s argument or option is called. */
const LISTS: Record<string, { path: string; field: string }> = {
  domain: { path: '/domains', field: 'name' },
  customer: { path: '/customers', field: 'name' },
  plan: { path: '/plans', field: 'name' },
  outlet: { path: '/outlets', field: 'name' },
  network: { path: '/networks', field: 'cidr' },
  witness: { path: '/witnesses', field: 'name' },
  zone: { path: '/zones', field: 'name' },
  certificate: { path: '/certificates', field: 'name' },
  webhook: { path: '/webhooks', field: 'id' },
  transfer: { path: '/transfers', field: 'id' },
};
/** An argument that is called only “name” or “id” is of the command’s noun. */
const NOUNS = new Set(['name', 'id', 'cidr']);
const OTHER_NAMES: Record<string, string> = { domains: 'domain', of: 'domain', scope: 'mailbox', mailbox: 'mailbox', address: 'mailbox' };
const FILES = new Set(['file', 'csv', 'path', 'folder', 'package', 'source', 'target']);

const visible = (command: Command): Command[] => {
  const shown = new Set(command.createHelp().visibleCommands(command));
  return command.commands.filter((one) => shown.has(one));
};

/** What may come after these words of a command line, the last of which is begun; names are asked of the service. */
export async function candidates(program: Command, words: readonly string[], client: ApiClient): Promise<Candidates> {
  const begun = words.at(-1) ?? '';
  let command = program;
  let option: Option | undefined;
  let taken = 0;
  for (const word of words.slice(0, -1)) {
    if (option !== undefined) {
      if (!option.variadic) option = undefined;
      if (!word.startsWith('-')) continue;
    }
    if (word.startsWith('-')) {
      option = [...command.options, ...program.options].find((one) => one.long === word && (one.required || one.optional));
      continue;
    }
    const next = taken === 0 ? visible(command).find((one) => one.name() === word) : undefined;
    if (next) command = next;
    else taken += 1;
  }
  const noun = command.parent === program ? command.name() : (command.parent?.name() ?? '');
  if (option !== undefined && !begun.startsWith('-')) return await valuesOf(option, noun, begun, client);
  if (begun.startsWith('-'))
    return [...command.options, ...program.options.filter((one) => one.long !== '--version')]
      .filter((one) => !one.hidden)
      .map((one) => ({ word: one.long ?? one.flags, note: one.description }))
      .concat({ word: '--help', note: 'show help' })
      .filter((one) => one.word.startsWith(begun));
  const verbs = taken === 0 ? visible(command).map((one) => ({ word: one.name(), note: one.description() })) : [];
  const found = verbs.filter((one) => one.word.startsWith(begun));
  if (found.length > 0) return found;
  const argument = command.registeredArguments[taken] ?? command.registeredArguments.findLast((one) => one.variadic);
  return argument ? await namesOf(argument, noun, begun, client) : [];
}

async function valuesOf(option: Option, noun: string, begun: string, client: ApiClient): Promise<Candidates> {
  if (option.argChoices) return fixed(option.argChoices, begun);
  const value = /<([a-z-]+)/.exec(option.flags)?.[1] ?? '';
  if (FILES.has(value)) return 'files';
  return await named(kindOf(option.attributeName(), noun) ?? kindOf(value, noun), begun, client);
}

async function namesOf(argument: Argument, noun: string, begun: string, client: ApiClient): Promise<Candidates> {
  if (argument.argChoices) return fixed(argument.argChoices, begun);
  if (FILES.has(argument.name())) return 'files';
  return await named(kindOf(argument.name(), noun), begun, client);
}

const fixed = (words: readonly string[], begun: string): Candidate[] =>
  words.filter((one) => one.startsWith(begun)).map((word) => ({ word, note: '' }));

function kindOf(name: string, noun: string): string | null {
  const kind = NOUNS.has(name) ? noun : (OTHER_NAMES[name] ?? name);
  return kind === 'mailbox' || LISTS[kind] ? kind : null;
}

/** Names from the service; where it doesn’t answer there is nothing to complete, and nothing to say. */
async function named(kind: string | null, begun: string, client: ApiClient): Promise<Candidate[]> {
  if (kind === null) return [];
  const [, local = '', domain] = /^([^@]*)(?:@(.*))?$/s.exec(begun) ?? [];
  if (kind === 'mailbox' && domain !== undefined) {
    const whole = (await rows(client, '/domains', domain)).map((one) => String(one['name'])).filter((one) => one.startsWith(domain));
    const first = whole[0];
    if (first === undefined) return [];
    const found = whole.length > 1 ? [] : starting(await rows(client, `/domains/${part(first)}/mailboxes`, local), 'address', begun);
    // Addresses without a mailbox are meant too, such as aliases.
    return found.length > 0 ? found : whole.map((one) => ({ word: `${local}@${one}`, note: '' }));
  }
  if (kind === 'mailbox') return starting(await rows(client, '/domains', begun), 'name', begun);
  const list = LISTS[kind];
  return list ? starting(await rows(client, list.path, begun), list.field, begun) : [];
}

const starting = (found: readonly Record<string, unknown>[], field: string, begun: string): Candidate[] =>
  found.map((one) => ({ word: String(one[field]), note: '' })).filter((one) => one.word.toLowerCase().startsWith(begun.toLowerCase()));

async function rows(client: ApiClient, path: string, search: string): Promise<Record<string, unknown>[]> {
  const query = search === '' ? '' : `&search=${encodeURIComponent(search)}`;
  try {
    const page = await client.get<{ rows?: Record<string, unknown>[] }>(`${path}?limit=${MOST}${query}`);
    return page.rows ?? [];
  } catch {
    return [];
  }
}
