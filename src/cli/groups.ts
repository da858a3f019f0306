import type { Command } from 'commander';

/** The top help, by what somebody is doing; a command that is in none of these doesn’t pass its test. */
export const GROUPS: Readonly<Record<string, readonly string[]>> = {
  'Every day:': ['status', 'journey', 'traffic', 'journal', 'explain', 'queue', 'check', 'records', 'rehearse'],
  'Customers and mailboxes:': ['customer', 'plan', 'domain', 'twin', 'mailbox', 'app-password', 'alias', 'moved', 'lockout'],
  'Sending and limits:': ['limit', 'ledger', 'statement', 'senders', 'pause', 'resume', 'brake', 'outlet', 'network', 'notice', 'webhook'],
  'Host, DNS and certificates:': ['host', 'spf', 'key', 'zone', 'certificate', 'witness'],
  'Migration and backups:': ['move-plan', 'import', 'export', 'transfer', 'backup', 'restore', 'integrity'],
  'The service:': ['setup', 'serve', 'config', 'update', 'clock', 'recover', 'demo'],
  'Your access:': ['sign-in', 'signed-in', 'token', 'session'],
  'Your shell:': ['completion', 'manual'],
};

/** Puts the commands into their groups, in the order of the groups. */
export function groupCommands(program: Command): void {
  const order = Object.values(GROUPS).flat();
  for (const [group, names] of Object.entries(GROUPS))
    for (const command of program.commands.filter((one) => names.includes(one.name()))) command.helpGroup(group);
  (program.commands as Command[]).sort((one, other) => order.indexOf(one.name()) - order.indexOf(other.name()));
}
