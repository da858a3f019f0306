import { SEPARATOR, SHARED } from '../../mailbox/folder-names.ts';
import { command, type Dialogue, nothing, ok } from '../dialogue.ts';
import { SyntaxFault, type Tokens } from '../tokens.ts';

/** What is offered to everybody who has signed in. */
const OFFERED = [
  'IDLE',
  'NAMESPACE',
  'UIDPLUS',
  'MOVE',
  'UNSELECT',
  'CHILDREN',
  'LIST-EXTENDED',
  'LIST-STATUS',
  'SPECIAL-USE',
  'CREATE-SPECIAL-USE',
  'STATUS=SIZE',
  'QUOTA',
  'QUOTA=RES-STORAGE',
  'QUOTA=RES-MESSAGE',
  'ACL',
  'RIGHTS=texk',
  'ESEARCH',
  'SEARCHRES',
  'SORT',
  'THREAD=ORDEREDSUBJECT',
  'THREAD=REFERENCES',
  'WITHIN',
  'CONDSTORE',
  'QRESYNC',
  'BINARY',
  'MULTIAPPEND',
  'CATENATE',
  'OBJECTID',
  'SAVEDATE',
  'PREVIEW',
  'REPLACE',
  'UTF8=ACCEPT',
] as const;

/** What can be asked for by ENABLE (RFC 5161). */
const ENABLED = new Set(['CONDSTORE', 'QRESYNC', 'UTF8=ACCEPT', 'IMAP4REV2']);

/** The capabilities at this moment, as one line. */
export function capabilities({ isSecure, mailroom, settings, isCompressed }: Dialogue): string {
  return [
    'IMAP4rev1',
    'IMAP4rev2',
    'LITERAL+',
    'ID',
    // It counts after the sign-in; but some programs keep the first list that they hear.
    'ENABLE',
    ...(isSecure ? (mailroom ? [] : ['SASL-IR', 'AUTH=PLAIN']) : [...(settings.tlsOffered ? ['STARTTLS'] : []), 'LOGINDISABLED']),
    ...(mailroom ? [...OFFERED, `APPENDLIMIT=${settings.maxMessageBytes}`, ...(isCompressed ? [] : ['COMPRESS=DEFLATE'])] : []),
  ].join(' ');
}

/** RFC 3501 §6.1.1 */
export const capability = command('any', nothing, async (dialogue, _asked, write) => {
  await write(`* CAPABILITY ${capabilities(dialogue)}\r\n`);
  return ok();
});

/** RFC 3501 §6.1.2: what is new is told at the end of every command. */
export const noop = command('any', nothing, () => ok());

/** RFC 3501 §6.1.3 */
export const logout = command('any', nothing, async (_dialogue, _asked, write) => {
  await write('* BYE Until next time\r\n');
  return ok();
});

const LONGEST_ID = 1024;

/** RFC 2971: what the program is called, for who looks at the mailbox's devices. */
export const id = command(
  'any',
  (tokens: Tokens) => {
    const fields = tokens.take('NIL')
      ? []
      : tokens.list(() => {
          const name = tokens.octets().toString('utf8').toLowerCase();
          tokens.space();
          return { name, value: tokens.nstring()?.toString('utf8') ?? '' };
        }, true);
    tokens.end();
    if (fields.length > 30 || fields.some((one) => one.name.length > 30 || one.value.length > LONGEST_ID))
      throw new SyntaxFault('ID is too long');
    return fields;
  },
  async ({ doors, settings, mailroom }, fields, write) => {
    const fieldNamed = (name: string): string => fields.find((one) => one.name === name)?.value ?? '';
    const program = [fieldNamed('name'), fieldNamed('version')].filter((one) => one !== '').join(' ');
    if (program !== '') doors.program(program.slice(0, 200));
    // To a stranger the name is enough.
    await write(mailroom ? `* ID ("name" "Tenedor" "version" "${settings.version}")\r\n` : '* ID ("name" "Tenedor")\r\n');
    return ok();
  },
);

/** RFC 5161 */
export const enable = command(
  'signed-in',
  (tokens: Tokens) => {
    const names = [tokens.word()];
    while (!tokens.isAtEnd) {
      tokens.space();
      names.push(tokens.word());
    }
    return names;
  },
  async (dialogue, names, write) => {
    const { enabled } = dialogue;
    const fresh = names.filter((name, place) => ENABLED.has(name) && !enabled.has(name) && names.indexOf(name) === place);
    for (const name of fresh) enabled.add(name);
    await write(`* ENABLED${fresh.map((name) => ` ${name === 'IMAP4REV2' ? 'IMAP4rev2' : name}`).join('')}\r\n`);
    return ok();
  },
);

/** RFC 4978 */
export const compress = command(
  'signed-in',
  (tokens: Tokens) => {
    const how = tokens.word();
    tokens.end();
    return how;
  },
  (dialogue, how) => {
    if (how !== 'DEFLATE') return { kind: 'NO', text: 'Only DEFLATE is supported' };
    if (dialogue.isCompressed) return { kind: 'NO', code: 'COMPRESSIONACTIVE', text: 'Compression is already active' };
    dialogue.isCompressed = true;
    return ok();
  },
);

/** RFC 2342: one's own folders, and those that others share. */
export const namespace = command('signed-in', nothing, async (_dialogue, _asked, write) => {
  await write(`* NAMESPACE (("" "${SEPARATOR}")) NIL (("${SHARED}${SEPARATOR}" "${SEPARATOR}"))\r\n`);
  return ok();
});
