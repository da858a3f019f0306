import type { Command } from 'commander';
import type { Stop } from '../api/mail-schemas.ts';
import { ORDERS } from '../core/vocabulary.ts';
import { confirm } from './ask.ts';
import type { ApiClient } from './client.ts';
import { type ListOptions, reverseOption, searchOption, showList, sortOption } from './lists.ts';
import { count, dim, type Json, safe, show, table, time, zoned } from './output.ts';

function stopRows(all: Stop[]): string {
  if (all.length === 0) return 'Nothing is paused, braked or stopped.';
  return table(
    ['type', 'scope', 'stopped', 'held', zoned('since'), 'why'],
    all.map((one) => [
      one.kind,
      safe(one.name),
      one.sending && one.receiving ? 'sending, receiving' : one.sending ? 'sending' : 'receiving',
      one.held,
      time(one.at),
      safe(one.text),
    ]),
  );
}

export function stopCommands(program: Command, client: ApiClient, json: Json): void {
  const released = (what: string) => (result: { recipients: number }) =>
    `${what} ${count(result.recipients, 'held recipient')} ${result.recipients === 1 ? 'goes' : 'go'} on.`;
  program
    .command('pause <scope>')
    .description('pause a domain, a mailbox or customer:NAME: refuse temporarily, and hold its queued mail')
    .option('--sending', 'only sending')
    .option('--receiving', 'only receiving')
    .option('--text <words>', 'text that senders and users see (plain ASCII)')
    .action(async (scope: string, options: { sending?: true; receiving?: true; text?: string }) => {
      const both = !options.sending && !options.receiving;
      const body = {
        scope,
        sending: both || options.sending === true,
        receiving: both || options.receiving === true,
        text: options.text ?? null,
      };
      show(json, await client.post<Stop>('/stops', body), (one) => `${stopRows([one])}\n${dim(`End it with: tenedor resume ${scope}`)}`);
    });
  program
    .command('resume <scope>')
    .description('end a pause')
    .action(async (scope: string) =>
      show(
        json,
        await client.post<{ recipients: number }>('/stops/release', { scope, kind: 'pause' }),
        released(`${scope} is no longer paused.`),
      ),
    );

  const brake = program.command('brake').description('senders stopped for failures or unusual sending');
  brake
    .command('list')
    .description('list brakes, stops and pauses')
    .addOption(searchOption())
    .addOption(sortOption(ORDERS.stops))
    .addOption(reverseOption())
    .action(async (options: ListOptions) => showList<Stop>(json, client, '/stops', options, stopRows));
  const kindOf = async (scope: string): Promise<'brake' | 'unusual'> => {
    const all = await client.list<Stop>('/stops');
    return all.some((one) => one.scope === scope && one.kind === 'unusual') ? 'unusual' : 'brake';
  };
  brake
    .command('release <scope>')
    .description('let a domain or mailbox send again, and release its held mail')
    .action(async (scope: string) =>
      show(
        json,
        await client.post<{ recipients: number }>('/stops/release', { scope, kind: await kindOf(scope) }),
        released(`${scope} may send again.`),
      ),
    );
  brake
    .command('discard <scope>')
    .description('drop held mail and notify its senders; the brake stays set')
    .option('--yes', 'do not ask')
    .action(async (scope: string, options: { yes?: true }) => {
      const kind = await kindOf(scope);
      const one = (await client.list<Stop>('/stops')).find((stop) => stop.scope === scope && stop.kind === kind);
      if (one && one.held > 0) await confirm(`${count(one.held, 'held recipient')} of ${scope} will not receive their mail.`, options.yes);
      show(
        json,
        await client.post<{ recipients: number }>('/stops/discard', { scope, kind }),
        (result) => `${count(result.recipients, 'recipient')} dropped.`,
      );
    });
  brake
    .command('clear <mailbox>')
    .description('clear the flag for unusual sending once you have checked')
    .action(async (scope: string) => {
      await client.post('/unusual/clear', { scope });
      show(json, {}, () => `${scope} is no longer flagged.`);
    });
}
