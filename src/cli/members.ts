import type { Command } from 'commander';
import type { Member } from '../api/mailbox-schemas.ts';
import { MEMBER_ROLES, type MemberRole, ORDERS } from '../core/vocabulary.ts';
import { type ApiClient, part } from './client.ts';
import { type ListOptions, reverseOption, searchOption, showList, sortOption } from './lists.ts';
import { choice } from './numbers.ts';
import { type Json, show, table, time } from './output.ts';

/** With whom a mailbox is shared, as what. */
export const membersTable = (all: readonly Member[]): string =>
  table(
    ['shared with', 'as', 'rights', 'sends as it', 'since'],
    all.map((one) => [one.address, one.as ?? '–', one.rights, one.maySend ? 'yes' : 'no', time(one.since).slice(0, 10)]),
  );

/** Commands about mailboxes that several people open. */
export function memberCommands(mailbox: Command, client: ApiClient, json: Json): void {
  const path = (address: string): string => `/mailboxes/${part(address)}/members`;
  mailbox
    .command('share <address> <member>')
    .description('share a mailbox with another of the same customer, who opens it under the own sign-in; or change what that one may do')
    .addOption(
      choice(
        '--as <what>',
        'readers read; writers also file, mark and remove; managers also make folders and give rights',
        MEMBER_ROLES,
      ).default('writer'),
    )
    .option('--send', 'mail may be sent as the shared mailbox')
    .action(async (address: string, member: string, { as, send }: { as: MemberRole; send?: true }) =>
      show(json, await client.put<Member[]>(path(address), { member, as, maySend: send === true }), membersTable),
    );
  mailbox
    .command('members <address>')
    .description('list with whom a mailbox is shared')
    .addOption(searchOption())
    .addOption(sortOption(ORDERS.members))
    .addOption(reverseOption())
    .action(async (address: string, options: ListOptions) =>
      showList<Member>(json, client, path(address), options, (all) =>
        all.length === 0 ? `Nobody else opens it. Share it: tenedor mailbox share ${address} MEMBER` : membersTable(all),
      ),
    );
  mailbox
    .command('unshare <address> <member>')
    .description('end sharing a mailbox with somebody')
    .action(async (address: string, member: string) => {
      await client.delete(`${path(address)}/${part(member)}`);
      show(json, {}, () => `${address} is not shared with ${member} any more.`);
    });
}
