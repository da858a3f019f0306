import { type Command, Option } from 'commander';
import type { Rehearsal, RehearsalHead } from '../api/rehearsal-schemas.ts';
import { ORDERS, type StepState } from '../core/vocabulary.ts';
import { type ApiClient, part } from './client.ts';
import { EXIT } from './errors.ts';
import { block } from './findings.ts';
import { type ListOptions, reverseOption, searchOption, showList, sortOption } from './lists.ts';
import { bold, dim, type Json, safe, show, stamp, styled, table, time, zoned } from './output.ts';
import { rehearseMessageCommands } from './rehearse-message.ts';

type Step = Rehearsal['ways'][number]['steps'][number];

const KINDS = {
  signin: { title: 'Sign-in to', good: 'Clients can sign in by every route.' },
  send: {
    title: 'Mail from',
    good: 'The other server accepts sender and recipient. Use --message to test decisions that depend on the message, such as DMARC.',
  },
  relay: { title: 'Open relay test of', good: 'Relaying is refused everywhere.' },
  receive: { title: 'Mail for', good: 'Other servers can deliver to every host.' },
} as const;

const subjectOf = ({ subject, recipient }: RehearsalHead): string => (recipient === null ? subject : `${subject} to ${recipient}`);

const STATES: Record<StepState, string> = { done: styled('green', '✓'), failed: styled('red', '✕'), 'not-reached': '·' };

const fromOption = (): Option => new Option('--from <witness>', 'run the test from a witness, from outside (tenedor witness list)');

interface WalkOptions {
  all?: true;
  from?: string;
  message?: true;
}
const walkBody = (address: string, { from, message }: WalkOptions): object => ({
  address,
  witness: from ?? null,
  message: message === true,
});

/** A step that failed is open, the others are folded; `all` opens all. */
const stepLines = (step: Step, all: boolean): string[] => {
  const isOpen = all || step.state === 'failed';
  const was = step.before === null ? '' : dim(`  (${step.before} last time)`);
  const time = step.ms === null ? '' : dim(`${step.ms} ms`);
  return [
    `  ${STATES[step.state]} ${step.name}${step.state === 'done' && step.seen !== '' ? `: ${safe(step.seen)}` : ''}  ${time}${was}`,
    ...(step.state === 'failed' ? [...block('seen', [step.seen]), ...block('do', [step.action])] : []),
    ...(isOpen ? step.said.flatMap(({ by, text }) => block(by === 'us' ? 'we' : 'they', text.split('\n'))) : []),
  ];
};

const rehearsalText =
  (all: boolean) =>
  (one: Rehearsal): string =>
    [
      `${bold(`${KINDS[one.kind].title} ${subjectOf(one)}`)}, ${stamp(one.at)}${one.witness === null ? '' : `, from ${one.witness}`}${one.beforeAt === null ? '' : dim(`; last run: ${stamp(one.beforeAt)}`)}`,
      ...one.ways.flatMap((way) => {
        const failed = way.steps.some((step) => step.state !== 'done');
        // A way on which all went well is one line.
        return failed || all
          ? ['', bold(way.name), ...way.steps.flatMap((step) => stepLines(step, all))]
          : [
              '',
              `${bold(way.name)}  ${STATES.done} ${way.steps.length === 1 ? 'done' : `all ${way.steps.length} steps`}  ${dim(`${way.steps.reduce((sum, { ms }) => sum + (ms ?? 0), 0)} ms`)}`,
            ];
      }),
      '',
      one.isGood
        ? KINDS[one.kind].good
        : `Something fails on ${one.ways.filter((way) => way.steps.some((step) => step.state !== 'done')).length} of ${one.ways.length} ways.`,
    ].join('\n');

export function rehearseCommands(program: Command, client: ApiClient, json: Json): void {
  const rehearse = program.command('rehearse').description('test step by step as a client would, and show which step fails');
  const shown = (one: Rehearsal, options: { all?: true }): void => {
    show(json, one, rehearsalText(options.all === true));
    if (!one.isGood) process.exitCode = EXIT.notGood;
  };
  rehearse
    .command('signin <address>')
    .description('sign in to a mailbox as clients do, without its password')
    .option('--message', 'send it a message, check that it arrives, and remove it')
    .addOption(fromOption())
    .option('--all', 'expand every step, with its dialogue')
    .action(async (address: string, options: WalkOptions) =>
      shown(await client.post<Rehearsal>('/rehearsals/signin', walkBody(address, options)), options),
    );
  rehearse
    .command('receive <address>')
    .description('deliver mail to an address as another server does, up to the message')
    .option('--message', 'include a message; it is removed after it arrives')
    .addOption(fromOption())
    .option('--all', 'expand every step, with its dialogue')
    .action(async (address: string, options: WalkOptions) =>
      shown(await client.post<Rehearsal>('/rehearsals/receive', walkBody(address, options)), options),
    );
  rehearse
    .command('send <address>')
    .description('send from a mailbox to an address, up to the message')
    .requiredOption('--to <address>', 'the recipient')
    .option('--message', 'include a message; it is charged, and not removed')
    .option('--all', 'expand every step, with its dialogue')
    .action(async (from: string, options: { to: string; all?: true; message?: true }) =>
      shown(await client.post<Rehearsal>('/rehearsals/send', { from, to: options.to, message: options.message === true }), options),
    );
  rehearse
    .command('relay')
    .description('test whether this host relays mail for strangers')
    .addOption(fromOption())
    .option('--all', 'expand every step, with its dialogue')
    .action(async (options: { all?: true; from?: string }) =>
      shown(await client.post<Rehearsal>('/rehearsals/relay', { witness: options.from ?? null }), options),
    );
  rehearseMessageCommands(rehearse, client, json);
  rehearse
    .command('show <number>')
    .description('show a past test, compared with the one before')
    .option('--all', 'expand every step, with its dialogue')
    .action(async (number: string, options: { all?: true }) => shown(await client.get<Rehearsal>(`/rehearsals/${part(number)}`), options));
  rehearse
    .command('list')
    .description('list recent tests')
    .addOption(searchOption())
    .addOption(sortOption(ORDERS.rehearsals))
    .addOption(reverseOption())
    .action(async (options: ListOptions) =>
      showList<RehearsalHead>(json, client, '/rehearsals', options, (all) =>
        table(
          ['number', 'test', 'subject', 'from', zoned('when'), 'result'],
          all.map((one) => [
            String(one.id),
            one.kind,
            safe(subjectOf(one)),
            one.witness ?? 'here',
            time(one.at),
            one.isGood ? `${STATES.done} all is well` : `${STATES.failed} something fails`,
          ]),
        ),
      ),
    );
}
