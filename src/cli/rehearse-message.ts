import type { Command } from 'commander';
import type { MessageFinding, Trial, TrialHead } from '../api/trial-schemas.ts';
import { MESSAGE_SUBJECT_WORDS, ORDERS } from '../core/vocabulary.ts';
import { confirm } from './ask.ts';
import { type ApiClient, part } from './client.ts';
import { CommandError, EXIT } from './errors.ts';
import { block } from './findings.ts';
import { type ListOptions, reverseOption, searchOption, showList, sortOption } from './lists.ts';
import { bold, dim, type Json, mark, progress, safe, show, stamp, styled, table, time, zoned } from './output.ts';

const EVERY_MS = 1500;

const costs = ({ costs: points }: { costs: number }): string => (points === 0 ? '' : styled('red', `  −${points}`));
const worth = (points: number | null, outOf: number | null): string => (points === null ? '–' : `${points} of ${outOf}`);

/** Like a finding about a domain, with what it costs. */
const findingLines = (one: MessageFinding, isOpen: boolean): string[] => [
  `  ${mark(one.verdict)}${' '.repeat(9 - one.verdict.length)}${bold(MESSAGE_SUBJECT_WORDS[one.subject].padEnd(15))}${safe(one.headline)}${costs(one)}`,
  ...(isOpen
    ? [
        ...(one.seen.length > 0 ? block('seen', one.seen) : []),
        ...block('why', [one.why]),
        ...(one.remedy === '' ? [] : block('do', [one.remedy])),
      ]
    : []),
];

const trialText =
  (all: boolean) =>
  (one: Trial): string => {
    if (one.state === 'waiting')
      return [
        `Send a message to ${bold(one.address ?? '')}, from any program or provider.`,
        dim(`It accepts one message, until ${stamp(one.expiresAt)}. See its score: tenedor rehearse message ${one.id}`),
      ].join('\n');
    if (one.state === 'expired') return `No message arrived at ${one.address} in time. Get a new address: tenedor rehearse message`;
    if (one.state === 'arrived') return `The message has arrived and is being scored: tenedor rehearse message ${one.id}`;
    const bad = one.findings.filter((finding) => finding.verdict !== 'good');
    const good = one.findings.filter((finding) => finding.verdict === 'good');
    const changed = one.subjects.filter(({ costs: now, costsBefore }) => costsBefore !== null && costsBefore !== now);
    return [
      `${bold(worth(one.points, one.outOf))}   ${safe(one.subject ?? (one.domain === null ? '' : `sample of ${one.domain}`))}`,
      dim(`from ${safe(one.sender || '<>')}, ${stamp(one.arrivedAt ?? 0)}; journey ${one.journeyId}`),
      ...(one.outOf === 100 ? [] : [dim(`${100 - (one.outOf ?? 0)} of 100 points could not be judged.`)]),
      '',
      ...bad.flatMap((finding) => [...findingLines(finding, true), '']),
      ...(all
        ? good.flatMap((finding) => findingLines(finding, true))
        : good.length === 0
          ? []
          : [`  ${mark('good')}     ${[...new Set(good.map((finding) => MESSAGE_SUBJECT_WORDS[finding.subject]))].join(', ')}`]),
      ...(one.beforeAt === null
        ? []
        : [
            '',
            `Last time, ${stamp(one.beforeAt)}: ${worth(one.pointsBefore, one.outOfBefore)}`,
            ...(changed.length === 0 ? [dim('  no differences')] : []),
            ...changed.map(
              ({ subject, costs: now, costsBefore }) =>
                `  ${MESSAGE_SUBJECT_WORDS[subject].padEnd(15)}${`−${costsBefore}`.padStart(4)} → ${now === 0 ? styled('green', '0') : `−${now}`}`,
            ),
          ]),
    ].join('\n');
  };

/** Waits for the message, as long as somebody looks on. */
async function arrived(client: ApiClient, one: Trial): Promise<Trial> {
  process.stderr.write(`Send a message to ${bold(one.address ?? '')}, from any program or provider.\n`);
  let now = one;
  while (now.state === 'waiting' || now.state === 'arrived') {
    progress(
      now.state === 'waiting'
        ? `Waiting for it until ${stamp(one.expiresAt)} (Ctrl-C to stop; later: tenedor rehearse message ${one.id})`
        : 'It has arrived and is being scored …',
    );
    await new Promise((resolve) => setTimeout(resolve, EVERY_MS));
    now = await client.get<Trial>(`/rehearsals/messages/${one.id}`);
  }
  progress('');
  return now;
}

interface MessageOptions {
  again?: true;
  wait?: boolean;
  all?: true;
}

export function rehearseMessageCommands(rehearse: Command, client: ApiClient, json: Json): void {
  rehearse
    .command('message [number]')
    .description('get an address for a test message, and score it as a strict receiver would')
    .option('--again', 'score the same message again, with today’s DNS')
    .option('--wait', 'wait for the message (default on a terminal)')
    .option('--no-wait', 'do not wait')
    .option('--all', 'also expand what is good')
    .action(async (number: string | undefined, { again, wait, all }: MessageOptions) => {
      if (number === undefined && again)
        throw new CommandError(EXIT.usage, 'No message number was given.', 'List messages: tenedor rehearse messages');
      const path = number === undefined ? '/rehearsals/messages' : `/rehearsals/messages/${part(number)}`;
      const found =
        number === undefined
          ? await client.post<Trial>(path)
          : again
            ? await client.post<Trial>(`${path}/again`)
            : await client.get<Trial>(path);
      const isWaiting = wait ?? (number === undefined && process.stdout.isTTY && !json());
      const one = isWaiting ? await arrived(client, found) : found;
      show(json, one, trialText(all === true));
      if (one.findings.some(({ verdict }) => verdict === 'wrong' || verdict === 'missing')) process.exitCode = EXIT.notGood;
    });
  rehearse
    .command('messages')
    .description('list scored messages, and samples of domains’ mail')
    .addOption(searchOption())
    .addOption(sortOption(ORDERS.trials))
    .addOption(reverseOption())
    .action(async (options: ListOptions) =>
      showList<TrialHead>(json, client, '/rehearsals/messages', options, (rows) =>
        rows.length === 0
          ? `No messages have been scored yet. ${dim('Get an address for one: tenedor rehearse message')}`
          : table(
              ['number', 'worth', 'from', 'subject', zoned('when')],
              rows.map((one) => [
                String(one.id),
                one.state === 'scored' ? worth(one.points, one.outOf) : one.state,
                safe(one.state === 'waiting' || one.state === 'expired' ? `to ${one.address}` : one.sender || '<>'),
                safe(one.subject ?? (one.domain === null ? '' : `sample of ${one.domain}`)),
                time(one.arrivedAt ?? one.madeAt),
              ]),
            ),
      ),
    );
  rehearse
    .command('remove <number>')
    .description('remove a scored message and its text')
    .option('--yes', 'do not ask')
    .action(async (number: string, options: { yes?: true }) => {
      await confirm(`Remove message ${number} with its scores?`, options.yes);
      await client.delete(`/rehearsals/messages/${part(number)}`);
      show(json, {}, () => `Message ${number} is removed.`);
    });
}
