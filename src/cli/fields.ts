import type { Command } from 'commander';
import { DOMAIN_FIELDS } from '../resources/domain.ts';
import type { Fields } from '../resources/fields.ts';
import { PLAN_FIELDS } from '../resources/plan.ts';

const optionsOf = (fields: Fields): Record<string, string[]> =>
  Object.fromEntries(Object.entries(fields).map(([name, { option = '' }]) => [name, [option.split(' ')[0] ?? '']]));

/** Options and arguments that are called otherwise than the API's fields. */
const CALLED: Record<string, readonly string[]> = {
  ...optionsOf(DOMAIN_FIELDS),
  ...optionsOf(PLAN_FIELDS),
  quotaBytes: ['--quota'],
  quotaMessages: ['--quota-messages'],
  recipientList: ['--recipients'],
  limits: ['--limit', 'limits'],
  mailboxLimits: ['--mailbox-limit'],
  brakeShare: ['--brake'],
  brakeLeast: ['--brake'],
  maySubmit: ['--submit'],
  domains: ['--domain'],
  customers: ['--customer'],
  destinations: ['--to'],
  password: ['--password-file', '--ask-password'],
  pem: ['--import'],
  ip: ['--ip'],
  period: ['limit'],
  quantity: ['limit'],
  amount: ['limit'],
  until: ['--for'],
  name: ['domain', 'zone', 'who', 'device', 'scope'],
  olderThanMinutes: ['--older'],
  ids: ['journeys'],
  anySender: ['--domain'],
  anyDomain: ['--domain'],
  keyName: ['--key'],
  secret: ['--secret-file'],
  whose: ['address-or-domain'],
  isWhole: ['--whole'],
  security: ['--starttls'],
  untilQuietHours: ['--until-quiet'],
  isTrial: ['--trial'],
  isArchive: ['--archive'],
  withHashes: ['--hashes'],
  appPasswordsOnly: ['--app-passwords'],
  maySend: ['--send'],
  keepDays: ['days'],
  mail: ['events'],
  host: ['server'],
  'If-Match': ['--if-revision'],
  'Idempotency-Key': ['--once'],
};

/** What a field of the API is called on the command line: `--quota`, `ADDRESS`; null when the command has neither. */
export function optionOf(command: Command, field: string): string | null {
  const [head = ''] = field.split('.');
  const names = [head, ...(CALLED[head] ?? [])];
  for (const owner of [command, ...(command.parent ? [rootOf(command)] : [])])
    for (const option of owner.options)
      if (names.includes(option.attributeName()) || names.includes(option.long ?? '')) return option.long ?? null;
  const argument = command.registeredArguments.find((one) => names.includes(one.name()));
  return argument ? argument.name().toUpperCase() : null;
}

const rootOf = (command: Command): Command => (command.parent ? rootOf(command.parent) : command);

/** The service's words about a field, about the option that it came from. */
export const inOptionWords = (detail: string, option: string): string => detail.replace(/^The field “[^”]*” /, `${option} `);
