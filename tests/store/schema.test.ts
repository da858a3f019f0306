import SQLite from 'better-sqlite3';
import { expect, it } from 'vitest';
import { MIGRATIONS } from '../../src/store/migrations.ts';

/** What a row of each table is. */
const ROW: Record<string, string> = {
  account: 'somebody who signs in to the console or the API',
  alias: 'a local part of a domain that is no mailbox',
  alias_target: 'where an alias leads',
  answered_request: 'a request with an Idempotency-Key, and its sealed answer',
  app_password: 'a password of a mailbox for one device, as a hash',
  api_token: 'a token of an account, as a hash',
  check_result: 'a domain’s last check',
  customer: 'a customer',
  dkim_key: 'a signing key of a domain',
  dns_zone: 'a zone that this server may update',
  domain: 'a domain',
  finding_change: 'a verdict that changed between two checks',
  unfiled_text: 'a text of a message that is not a file yet',
  limit_choice: 'what happens here when a limit is reached, where it is not as the plan says',
  host_check: 'the last check of the host itself',
  journal: 'an event of a journey',
  journey: 'one message on its way, or a refused attempt',
  journey_words: 'the words of journeys, for the search (full text)',
  known_recipient: 'what the server that has a domain’s mailboxes has said of an address',
  ledger: 'a charge against limits, or a hand-back',
  limit_raise: 'a limit raised for a while',
  limit_warning: 'a level of a limit that was reached, and was told of',
  lost_text: 'a text that should be there and is gone or cut short',
  certificate: 'a certificate that was added or fetched, with its key',
  certificate_name: 'a name that clients connect to, with what was tried to have a certificate for it',
  authority_account: 'our account at an authority that gives certificates',
  rehearsal: 'a test of every step of a mail program, with what came of each',
  trial: 'a message that is scored: an address good for one, or a sample of what a domain sends',
  trial_score: 'what such a message was worth at some time',
  witness: 'another host that rehearses for this one, or for which this one rehearses',
  upkeep_run: 'a backup that was made or proven, or a look at what is stored, with what came of it',
  moved_address: 'an address whose owner has gone elsewhere: mail is led there for a while, then refused with the new address',
  version_run: 'a version of the program that has run on this data',
  move_plan: 'the path by which a domain moves here from another server',
  move_step: 'what was done of a step of that path',
  transfer: 'mail that was imported, exported or brought back out of a backup, with what came of it',
  transfer_mailbox: 'a mailbox of a transfer, and how far it is',
  transfer_left_out: 'something that a transfer did not take, and why',
  taken_message: 'a message that was brought into a mailbox from another server: it is not brought again',
  listed_row: 'something that lists have added that are being loaded: a start takes it away where they came to no end',
  kept_mailbox: 'a mailbox, or one that was removed and can be brought back; all but those who bring it back read the view `mailbox`',
  domain_use: 'what all mailboxes of a domain use together',
  network: 'a network that may send without signing in',
  network_domain: 'a domain that a network may send as',
  number_given: 'the last number of a kind that was given out; none is used again',
  outlet: 'a way out for mail',
  outlet_charge: 'a charge against an outlet’s limits',
  removed_domain_key: 'a signing key of a removed domain, while mail of it waits',
  plan: 'a plan',
  recipient: 'one recipient of a journey: how far it has come, and when it is tried again',
  removed_scope: 'something removed that has charges in the ledger',
  send_outcome: 'how the sends of an hour ended',
  sending_limit: 'an amount for a scope, a period and a quantity',
  setting: 'a setting of the server',
  sign_in_failure: 'failed attempts at a name or from an address',
  mailbox_copy: 'an address to which a mailbox forwards a copy of what it gets',
  mailbox_sign_in: 'a week’s sign-ins to a mailbox by one client, with one password',
  sign_in_place: 'a network from which an account has signed in',
  stop: 'a stop of somebody’s sending',
  mailbox_member: 'somebody with whom a mailbox is shared',
  folder_right: 'what somebody else may do with one folder, where it is not as with the others',
  message: 'a message in a folder of a mailbox',
  folder: 'a folder of a mailbox',
  subscription: 'a name of a folder that a mailbox’s owner wants to see',
  expunged: 'a message that was in a folder, so that whoever knew it hears that it is gone',
  outline: 'what is known of a text without opening it',
  outline_line: 'what lists show of a text',
  shown_more: 'octets that POP3 sends of a text more than it has, by how it is shown',
  unneeded_text: 'a file that nothing needs, and since when; it goes after a day',
  unusual: 'an hour in which a mailbox sent far more than usual',
  web_session: 'somebody signed in at the console',
  webhook: 'an address that is told of events',
  webhook_call: 'a call to a webhook that waits, or its last answer',
};

interface Column {
  name: string;
  type: string;
  notnull: 0 | 1;
  dflt_value: string | null;
  pk: number;
  /** Above 0: computed or kept by SQLite itself. */
  hidden: number;
}

function schemaDocument(): string {
  const db = new SQLite(':memory:');
  for (const migration of MIGRATIONS) db.exec(migration);
  const all = <T>(sql: string, ...values: unknown[]): T[] => db.prepare<unknown[], T>(sql).all(...values);
  const named = (type: string) =>
    all<{ name: string; of: string }>(
      `SELECT name, tbl_name AS "of" FROM sqlite_master WHERE type = ? AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY name`,
      type,
    );
  // A full-text table keeps its own tables beside it: how it does is SQLite's.
  const tables = named('table').filter(({ name }) => !/^journey_words_/.test(name));
  expect(Object.keys(ROW).sort()).toEqual(tables.map(({ name }) => name));
  const [indexes, triggers] = [named('index'), named('trigger')];
  const part = ({ name: table }: { name: string }): string => {
    const leads = new Map(
      all<{ from: string; table: string; on_delete: string }>(
        'SELECT "from", "table", on_delete FROM pragma_foreign_key_list(?)',
        table,
      ).map((key) => [key.from, `→ ${key.table}${key.on_delete === 'CASCADE' ? ', goes with it' : ''}`]),
    );
    const columns = all<Column>('SELECT * FROM pragma_table_xinfo(?) WHERE hidden <> 1', table).map((column) =>
      [
        `\`${column.name}\``,
        column.type === '' ? 'any' : column.type.toLowerCase(),
        column.pk > 0 ? 'key' : column.notnull === 1 ? 'always' : 'or null',
        [leads.get(column.name), column.dflt_value !== null && `else ${column.dflt_value}`, column.hidden > 1 && 'computed']
          .filter(Boolean)
          .join('; '),
      ].join(' | '),
    );
    const beside = [
      ...indexes.filter((one) => one.of === table).map(({ name }) => `index \`${name}\` (${columnsOf(name)})`),
      ...triggers.filter((one) => one.of === table).map(({ name }) => `trigger \`${name}\``),
    ];
    return [
      `## ${table}\n\nA row is ${ROW[table]}.\n`,
      '| column | type | | |\n|---|---|---|---|',
      ...columns.map((line) => `| ${line} |`),
      ...(beside.length > 0 ? [`\nBeside it: ${beside.join(', ')}.`] : []),
      '',
    ].join('\n');
  };
  const columnsOf = (index: string): string =>
    all<{ name: string | null }>('SELECT name FROM pragma_index_info(?)', index)
      .map(({ name }) => name ?? 'an expression')
      .join(', ');
  const text = [
    `# The database\n\nVersion ${MIGRATIONS.length}, as the files of \`src/store/migrations\` make it. Times are milliseconds since 1970, sizes octets.`,
    'Made by `npx vitest run tests/store/schema.test.ts -u`; that test holds it to the migrations.\n',
    ...tables.map(part),
  ].join('\n');
  db.close();
  return text;
}

it('docs/schema.md is what the migrations make', async () => {
  await expect(schemaDocument()).toMatchFileSnapshot('../../docs/schema.md');
});
