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
  signin: { title: 'Sign-in to', good: 'A mail program gets in on every way.' },
  send: {
    title: 'Mail from',
    good: 'The other server takes sender and recipient. What it decides by the message itself, such as DMARC, is tried with --message.',
  },
  relay: { title: 'Mail for strangers at', good: 'No mail of strangers is passed on.' },
  receive: { title: 'Mail for', good: 'Another server gets rid of its mail at every host.' },
} as const;

const subjectOf = ({ subject, recipient }: RehearsalHead): string => (recipient === null ? subject : `${subject} to ${recipient}`);

const STATES: Record<StepState, string> = { done: styled('green', '✓'), failed: styled('red', '✕'), 'not-reached': '·' };

const fromOption = (): Option => new Option('--from <witness>', 'have a witness take the steps, from outside (tenedor witness list)');

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
  const was = step.before === null ? '' : dim(`  (${step.before} the time before)`);
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
      `${bold(`${KINDS[one.kind].title} ${subjectOf(one)}`)}, ${stamp(one.at)}${one.witness === null ? '' : `, from ${one.witness}`}${one.beforeAt === null ? '' : dim(`; the time before was ${stamp(one.beforeAt)}`)}`,
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
  const rehearse = program.command('rehearse').description('do step by step what a client would, and say which step fails');
  const shown = (one: Rehearsal, options: { all?: true }): void => {
    show(json, one, rehearsalText(options.all === true));
    if (!one.isGood) process.exitCode = EXIT.notGood;
  };
  rehearse
    .command('signin <address>')
    .description('sign in to a mailbox as mail programs do, without anybody’s password')
    .option('--message', 'send a message to itself, see it arrive, and take it away again')
    .addOption(fromOption())
    .option('--all', 'open every step, with what was said')
    .action(async (address: string, options: WalkOptions) =>
      shown(await client.post<Rehearsal>('/rehearsals/signin', walkBody(address, options)), options),
    );
  rehearse
    .command('receive <address>')
    .description('bring mail for an address as another server does, up to the message')
    .option('--message', 'bring a message, too; where it arrives it is taken away again')
    .addOption(fromOption())
    .option('--all', 'open every step, with what was said')
    .action(async (address: string, options: WalkOptions) =>
      shown(await client.post<Rehearsal>('/rehearsals/receive', walkBody(address, options)), options),
    );
  rehearse
    .command('send <address>')
    .description('send from a mailbox to somebody, up to the message')
    .requiredOption('--to <address>', 'to whom')
    .option('--message', 'send a message, too; it is charged, and stays there')
    .option('--all', 'open every step, with what was said')
    .action(async (from: string, options: { to: string; all?: true; message?: true }) =>
      shown(await client.post<Rehearsal>('/rehearsals/send', { from, to: options.to, message: options.message === true }), options),
    );
  rehearse
    .command('relay')
    .description('try to have mail for strangers passed on by this host')
    .addOption(fromOption())
    .option('--all', 'open every step, with what was said')
    .action(async (options: { all?: true; from?: string }) =>
      shown(await client.post<Rehearsal>('/rehearsals/relay', { witness: options.from ?? null }), options),
    );
  rehearseMessageCommands(rehearse, client, json);
  rehearse
    .command('show <number>')
    .description('show a rehearsal again, beside the one before')
    .option('--all', 'open every step, with what was said')
    .action(async (number: string, options: { all?: true }) => shown(await client.get<Rehearsal>(`/rehearsals/${part(number)}`), options));
  rehearse
    .command('list')
    .description('list the rehearsals that were made')
    .addOption(searchOption())
    .addOption(sortOption(ORDERS.rehearsals))
    .addOption(reverseOption())
    .action(async (options: ListOptions) =>
      showList<RehearsalHead>(json, client, '/rehearsals', options, (all) =>
        table(
          ['number', 'what', 'of', 'from', zoned('when'), 'came to'],
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
