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
    .description(
      'share a mailbox with another user of the same customer, who opens it with their own password; or change that user’s rights',
    )
    .addOption(
      choice(
        '--as <what>',
        'a reader reads; a writer also files, marks and removes; a manager also creates folders and grants rights',
        MEMBER_ROLES,
      ).default('writer'),
    )
    .option('--send', 'may send as the shared mailbox')
    .action(async (address: string, member: string, { as, send }: { as: MemberRole; send?: true }) =>
      show(json, await client.put<Member[]>(path(address), { member, as, maySend: send === true }), membersTable),
    );
  mailbox
    .command('members <address>')
    .description('list the members of a shared mailbox')
    .addOption(searchOption())
    .addOption(sortOption(ORDERS.members))
    .addOption(reverseOption())
    .action(async (address: string, options: ListOptions) =>
      showList<Member>(json, client, path(address), options, (all) =>
        all.length === 0 ? `It is not shared. Share it: tenedor mailbox share ${address} MEMBER` : membersTable(all),
      ),
    );
  mailbox
    .command('unshare <address> <member>')
    .description('stop sharing a mailbox with a member')
    .action(async (address: string, member: string) => {
      await client.delete(`${path(address)}/${part(member)}`);
      show(json, {}, () => `${address} is no longer shared with ${member}.`);
    });
}
