import { setTimeout as pause } from 'node:timers/promises';
import type { Command } from 'commander';
import type { CheckReport, CheckRun, DomainLetter, FindingChange, HostReport, SpfExplanation } from '../api/dns-schemas.ts';
import { type ApiClient, part } from './client.ts';
import { CommandError, EXIT } from './errors.ts';
import { findingLines, historyText, letterText, reportText, summaryText } from './findings.ts';
import { bold, dim, facts, type Json, progress, safe, say, show, styled } from './output.ts';

/** While waiting for a cache: as soon as it should be over, and before that now and then, at first often: several caches may answer in turn. */
const SHORTEST_PAUSE_S = 2;
const LONGEST_PAUSE_S = 20;
const POLL_MS = 250;

const clock = (seconds: number): string => `${Math.floor(seconds / 60)}:${String(seconds % 60).padStart(2, '0')}`;

/** How long the slowest of the waiting findings needs; null when none waits. */
function waitingFor(report: CheckReport): number | null {
  const waits = report.findings.flatMap((one) => (one.verdict === 'waiting' ? [one.secondsLeft ?? 0] : []));
  return waits.length === 0 ? null : Math.max(...waits);
}

async function untilArrived(client: ApiClient, domain: string): Promise<CheckReport> {
  for (let pauseS = SHORTEST_PAUSE_S; ; pauseS = Math.min(pauseS * 2, LONGEST_PAUSE_S)) {
    const report = await client.post<CheckReport>(`/domains/${part(domain)}/check`);
    const left = waitingFor(report);
    if (left === null) {
      progress('');
      return report;
    }
    const rest = Math.min(Math.max(left + 1, 1), pauseS);
    for (let second = 0; second < rest; second += 1) {
      progress(`${domain}: correct at the source, waiting for caches, up to ${clock(Math.max(0, left - second))} more (Ctrl-C to stop)`);
      await pause(1000);
    }
  }
}

async function checkEvery(client: ApiClient): Promise<CheckRun> {
  let run = await client.post<CheckRun>('/checks');
  while (run.finishedAt === null) {
    progress(`Checking every domain: ${run.done} of ${run.total}`);
    await pause(POLL_MS);
    run = (await client.get<{ run: CheckRun }>('/checks/latest')).run;
  }
  progress('');
  return run;
}

async function lettersOf(client: ApiClient, { domains }: NonNullable<CheckRun['summary']>): Promise<DomainLetter[]> {
  const letters: DomainLetter[] = [];
  for (const { domain, good } of domains) if (!good) letters.push(await client.get<DomainLetter>(`/domains/${part(domain)}/letter`));
  return letters.filter((one) => one.letter !== null);
}

const OUTCOME: Record<SpfExplanation['steps'][number]['outcome'], [string, 'green' | 'red' | 'dim' | 'cyan']> = {
  match: ['✓ matches', 'green'],
  'no-match': ['· no', 'dim'],
  result: ['→', 'cyan'],
  error: ['✕', 'red'],
};

/** The evaluation as a tree: each record with its terms, what each asked, and the look-ups so far. */
function spfText(one: SpfExplanation): string {
  const style = one.result === 'pass' ? 'green' : one.result === 'none' || one.result === 'neutral' ? 'yellow' : 'red';
  return [
    facts([
      ['client', one.clientAddress],
      ['sender', safe(one.sender)],
      ['result', `${styled(style, one.result)}   ${safe(one.reason)}`],
      ['look-ups', `${one.lookups} of 10`],
      ...(one.explanation === null ? [] : [['they say', safe(one.explanation)] as [string, string]]),
    ]),
    '',
    ...one.steps.flatMap((step, at) => (step.kind === 'record' ? [recordLine(step)] : termLines(step, one.steps.slice(at + 1)))),
  ].join('\n');
}

type Step = SpfExplanation['steps'][number];

function recordLine(step: Step): string {
  const [word, style] = OUTCOME[step.outcome];
  return `${indent(step)}${bold(safe(step.domain))}  ${safe(step.text) || dim('no record')}  ${styled(style, `${word} ${safe(step.note)}`)}`;
}

function termLines(step: Step, later: readonly Step[]): string[] {
  const [word, style] = OUTCOME[step.outcome];
  const note = step.note === '' ? '' : safe(step.note);
  const plain = step.outcome === 'match' || step.outcome === 'no-match';
  const verdict = plain ? styled(style, word) + (note === '' ? '' : dim(` (${note})`)) : styled(style, `${word} ${note}`);
  const costs = step.asked.length > 0 || /^[+~?-]?include:|^redirect=/i.test(step.text);
  const isLast = !later.some((other) => other.kind === 'term' && other.depth === step.depth && other.domain === step.domain);
  return [
    `${indent(step)}${isLast ? '└─ ' : '├─ '}${safe(step.text)}  ${verdict}${costs ? dim(`  [look-up ${step.lookups}]`) : ''}`,
    ...step.asked.map((ask) => `${indent(step)}      ${dim(`${ask.type} ${safe(ask.name)} → ${safe(ask.answer)}`)}`),
  ];
}

/** Terms stand one step further in than their record, and what they open another one. */
const indent = ({ depth, kind }: Step): string => '   '.repeat(depth * 2 + (kind === 'term' ? 1 : 0));

export function checkCommands(program: Command, client: ApiClient, json: Json): void {
  program
    .command('check [domains...]')
    .description('check published DNS records: what is wrong, and what to do')
    .option('--all', 'every domain')
    .option('--wait', 'wait until corrected records have reached every resolver')
    .option('--evidence', 'show each query and its answer')
    .option('--history', 'show past findings, without a new check')
    .option('--letter', 'with --all: write a letter to each customer whose DNS needs work')
    .option('--resolver <address>', 'compare with this resolver instead of the configured ones, and store nothing')
    .action(
      async (
        domains: string[],
        options: { all?: true; wait?: true; evidence?: true; history?: true; resolver?: string; letter?: true },
      ) => {
        if (options.letter && !options.all)
          throw new CommandError(EXIT.usage, '--letter needs --all.', 'For one domain: tenedor records DOMAIN --letter');
        if (options.all === true && (domains.length > 0 || options.wait || options.history || options.resolver !== undefined))
          throw new CommandError(EXIT.usage, '--all works only with --letter.', 'Leave the other options out, or name domains.');
        if (options.all) {
          const run = await checkEvery(client);
          if (run.summary === null)
            throw new CommandError(
              EXIT.refused,
              run.failure ?? 'The check did not finish.',
              'Try again. If it fails again, see the service’s log.',
            );
          if (options.letter)
            show(
              json,
              await lettersOf(client, run.summary),
              (letters) => letters.map(letterText).join(`\n\n${dim('─'.repeat(72))}\n\n`) || 'No customer needs to change anything.',
            );
          else show(json, run.summary, summaryText);
          if (run.summary.domains.some((one) => !one.good)) process.exitCode = EXIT.notGood;
          return;
        }
        if (domains.length === 0) throw new CommandError(EXIT.usage, 'No domain was named.', 'Name one or more, or use --all.');
        if (options.history) {
          for (const domain of domains)
            show(json, await client.get<{ rows: FindingChange[] }>(`/domains/${part(domain)}/history`), ({ rows }) =>
              historyText(domain, rows),
            );
          return;
        }
        if (options.wait && options.resolver !== undefined)
          throw new CommandError(EXIT.usage, '--wait uses the configured resolvers.', 'Leave --resolver out.');
        const reports: CheckReport[] = [];
        const body = options.resolver === undefined ? {} : { resolver: options.resolver };
        for (const domain of domains)
          reports.push(
            options.wait ? await untilArrived(client, domain) : await client.post<CheckReport>(`/domains/${part(domain)}/check`, body),
          );
        show(json, reports.length === 1 ? reports[0] : reports, () =>
          reports.map((one) => reportText(one, options.evidence === true)).join('\n\n'),
        );
        if (reports.some((report) => !report.good)) process.exitCode = EXIT.notGood;
      },
    );

  const spf = program.command('spf').description('SPF records');
  spf
    .command('explain <domain>')
    .description('evaluate a domain’s SPF record term by term')
    .option('--ip <address>', 'the client’s address (default: this host’s own)')
    .option('--sender <address>', 'the envelope sender (default: postmaster of the domain)')
    .action(async (domain: string, options: { ip?: string; sender?: string }) => {
      const query = new URLSearchParams({
        ...(options.ip ? { ip: options.ip } : {}),
        ...(options.sender ? { sender: options.sender } : {}),
      });
      const all = await client.get<SpfExplanation[]>(`/spf/${part(domain)}?${query}`);
      show(json, all, () => all.map(spfText).join('\n\n'));
      if (all.some((one) => one.result !== 'pass')) process.exitCode = EXIT.notGood;
    });

  const host = program.command('host').description('the host itself');
  const hostText = (report: HostReport, evidence: boolean): string =>
    [
      facts([
        ['host', bold(report.name)],
        ['addresses', report.addresses.join(', ')],
        ...(report.standby.length > 0 ? [['standby', report.standby.join(', ')] as [string, string]] : []),
        ['postmaster', report.postmaster],
        ...(report.blockLists.length > 0 ? [['lists', report.blockLists.join(', ')] as [string, string]] : []),
      ]),
      '',
      ...report.findings.flatMap((one) => findingLines(one, evidence)),
    ]
      .join('\n')
      .trimEnd();
  const showHost = (report: HostReport, evidence: boolean): void => {
    show(json, report, (one) => hostText(one, evidence));
    if (!report.good) process.exitCode = EXIT.notGood;
  };
  host
    .command('show')
    .description('show the host’s name, addresses, records and findings')
    .option('--evidence', 'show each query and its answer')
    .option('--request', 'only the text of the request for reverse DNS')
    .action(async (options: { evidence?: true; request?: true }) => {
      const report = await client.get<HostReport>('/host');
      if (options.request && !json()) say(report.request);
      else showHost(report, options.evidence === true);
    });
  host
    .command('check')
    .description('check the host’s name, reverse DNS, greeting and block lists')
    .option('--evidence', 'show each query and its answer')
    .option('--history', 'show past findings, without a new check')
    .action(async (options: { evidence?: true; history?: true }) => {
      if (options.history)
        show(json, await client.get<{ rows: FindingChange[] }>('/host/history'), ({ rows }) => historyText('the host', rows));
      else showHost(await client.post<HostReport>('/host/check'), options.evidence === true);
    });
}
