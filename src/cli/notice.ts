import type { Command } from 'commander';
import type { Notices, Webhook } from '../api/mail-schemas.ts';
import { NOTICE_EVENTS, ORDERS } from '../core/vocabulary.ts';
import { confirm } from './ask.ts';
import { type ApiClient, part } from './client.ts';
import { EXIT } from './errors.ts';
import { listCommand } from './lists.ts';
import { bold, dim, facts, type Json, nothing, safe, show, time, zoned } from './output.ts';

export function noticeCommands(program: Command, client: ApiClient, json: Json): void {
  const notice = program.command('notice').description('events that customers are notified of by mail');
  const noticeText = ({ mail }: Notices): string =>
    facts([
      ['sent by mail', mail.join(', ') || 'nothing'],
      ['goes to', 'the customer’s contact (tenedor customer set NAME --contact ADDRESS)'],
    ]);
  notice
    .command('show')
    .description('show it')
    .action(async () => show(json, await client.get<Notices>('/notices'), noticeText));
  notice
    .command('set [events...]')
    .description(`set it: some of ${NOTICE_EVENTS.join(', ')}, or none`)
    .action(async (events: string[]) =>
      show(json, await client.put<Notices>('/notices', { mail: events[0] === 'none' ? [] : events }), noticeText),
    );

  const webhook = program.command('webhook').description('URLs that are notified of events by signed HTTP requests');
  listCommand<Webhook>(
    webhook,
    { client, json },
    {
      command: 'list',
      about: 'list webhooks, with the last response of each',
      orders: ORDERS.webhooks,
      path: '/webhooks',
      none: nothing('webhooks', 'tenedor webhook add https://desk.provider.example/mail-events'),
      columns: () => ['id', 'url', 'events', zoned('last call'), 'answer', 'waiting'],
      row: (one) => [
        String(one.id),
        safe(one.url),
        one.events.join(', '),
        one.lastAt === null ? '–' : time(one.lastAt),
        safe(one.lastAnswer ?? '–'),
        one.waiting,
      ],
    },
  );
  webhook
    .command('add <url>')
    .description('add a URL; its signing secret is shown only once')
    .option('--events <events...>', `some of ${NOTICE_EVENTS.join(', ')}`)
    .action(async (url: string, options: { events?: string[] }) =>
      show(json, await client.post<{ webhook: Webhook; secret: string }>('/webhooks', { url, ...options }), ({ webhook: one, secret }) =>
        facts([
          ['webhook', `${bold(String(one.id))}  ${safe(one.url)}`],
          ['events', one.events.join(', ')],
          ['secret', `${bold(secret)}   ${dim('shown only once; requests carry HTTP Message Signatures (RFC 9421, hmac-sha256)')}`],
        ]),
      ),
    );
  webhook
    .command('test <id>')
    .description('send a test event; exit code 1 if it is not accepted')
    .action(async (id: string) => {
      const result = await client.post<{ status: number | null; reason: string }>(`/webhooks/${part(id)}/test`);
      const taken = result.status !== null && result.status >= 200 && result.status < 300;
      show(json, result, ({ status, reason }) => (status === null ? `No response (${reason}).` : `It answered ${status} ${reason}.`));
      if (!taken) process.exitCode = EXIT.notGood;
    });
  webhook
    .command('remove <id>')
    .description('remove a webhook')
    .option('--yes', 'do not ask')
    .action(async (id: string, options: { yes?: true }) => {
      await confirm(`The webhook ${id} gets no more events; events still waiting for it are dropped.`, options.yes);
      await client.delete(`/webhooks/${part(id)}`);
      show(json, {}, () => `The webhook ${id} is removed.`);
    });
}
