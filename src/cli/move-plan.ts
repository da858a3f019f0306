import { Argument, type Command } from 'commander';
import type { MovePlan, MovePlanDetails, Stepped } from '../api/move-schemas.ts';
import { MOVE_STEP_TITLES, MOVE_STEPS, type MoveState, ORDERS } from '../core/vocabulary.ts';
import { confirm } from './ask.ts';
import { type ApiClient, part } from './client.ts';
import { CommandError, EXIT } from './errors.ts';
import { listedAccounts, type ServerOptions, serverAsked, serverOptions } from './import.ts';
import { listCommand } from './lists.ts';
import { wholeNumber } from './numbers.ts';
import { bold, count, dim, facts, type Json, safe, show, stamp, styled, table, time, zoned } from './output.ts';

const STATES: Record<MoveState, string> = {
  done: styled('green', '✓ done'),
  next: styled('cyan', '▸ next'),
  'under-way': styled('cyan', '… under way'),
  waiting: styled('yellow', '… waiting'),
  wrong: styled('red', '✕ wrong'),
  later: dim('  later'),
  skipped: dim('– left out'),
};

function planText(plan: MovePlanDetails): string {
  const { domain, oldServer, accounts, steps } = plan;
  return [
    facts([
      ['domain', bold(safe(domain))],
      ['comes from', `${safe(plan.server)}, ${count(accounts.length, 'account')}`],
      ['mail for it', oldServer === null ? 'stays here' : `is passed on to ${safe(oldServer)} until its MX records point here`],
      ['begun', stamp(plan.begunAt)],
      ['DNS seen', plan.lookedAt === null ? 'not yet' : stamp(plan.lookedAt)],
    ]),
    '',
    ...steps.flatMap(({ step, state, said, advice, until }, at) => [
      `${at + 1}. ${bold(MOVE_STEP_TITLES[step])}  ${dim(step)}  ${STATES[state]}`,
      ...(state === 'later' ? [] : [`   ${safe(said)}`]),
      ...(advice === '' || state === 'later' ? [] : [`   ${safe(advice)}`]),
      ...(until === null || state === 'later' ? [] : [`   until ${stamp(until)}`]),
    ]),
    ...hint(plan),
  ].join('\n');
}

function hint({ domain, steps, step }: MovePlanDetails): string[] {
  if (step === null) return ['', dim(`All steps are complete. End the plan: tenedor move-plan end ${domain}`)];
  const now = steps.find((one) => one.step === step);
  if (!now || now.state === 'under-way' || now.state === 'waiting') return [];
  return ['', dim(now.isOurs ? `Continue: tenedor move-plan next ${domain}` : `Then: tenedor move-plan check ${domain}`)];
}

const stepArgument = (): Argument => new Argument('<step>', 'the step').choices(MOVE_STEPS);

export function movePlanCommands(program: Command, client: ApiClient, json: Json): void {
  const plan = program.command('move-plan').description('migration of a domain from another server, step by step');
  const path = (domain: string): string => `/domains/${part(domain)}/move-plan`;
  const showPlan = (found: MovePlanDetails): void => {
    show(json, found, planText);
    if (found.state === 'wrong') process.exitCode = EXIT.notGood;
  };
  serverOptions(
    plan
      .command('begin <domain> <server>')
      .description('plan a domain’s migration; its mail is passed on to the old server until its MX records point here')
      .option('--mail-server <host>', 'its current mail server (default: the one in its MX records)')
      .option('--quiet-hours <number>', 'end the last pass when no mail has arrived there for this long', wholeNumber, 48),
  ).action(async (domain: string, server: string, options: ServerOptions & { mailServer?: string; quietHours: number }) => {
    if (options.accounts === undefined)
      throw new CommandError(
        EXIT.usage,
        'Which mailboxes?',
        'List the accounts in a file: --accounts FILE, with the columns user, password, address.',
      );
    const accounts = listedAccounts(options.accounts);
    const { mailServer = null, quietHours } = options;
    showPlan(await client.post<MovePlanDetails>(path(domain), { ...serverAsked(server, options), accounts, mailServer, quietHours }));
  });
  listCommand<MovePlan>(
    plan,
    { client, json },
    {
      command: 'list',
      about: 'list domains that are moving here',
      orders: ORDERS.movePlans,
      path: '/move-plans',
      none: `No domains are moving here. ${dim('Plan a move: tenedor move-plan begin DOMAIN SERVER --accounts FILE')}`,
      columns: () => ['domain', 'from', zoned('begun'), 'step', 'state'],
      row: (one) => [
        safe(one.domain),
        safe(one.server),
        time(one.begunAt),
        one.step === null ? 'all complete' : MOVE_STEP_TITLES[one.step],
        STATES[one.state].trim(),
      ],
    },
  );
  plan
    .command('show <domain>')
    .description('show the steps: done, next and waiting')
    .action(async (domain: string) => showPlan(await client.get<MovePlanDetails>(path(domain))));
  plan
    .command('next <domain>')
    .description('do the next step, or continue one that stopped')
    .addArgument(new Argument('[step]', 'a step other than the next').choices(MOVE_STEPS))
    .action(async (domain: string, step: string | undefined) => {
      const done = await client.post<Stepped>(`${path(domain)}/next`, { step: step ?? null });
      show(json, done, ({ plan: found, passwords, fault }) =>
        [
          ...(passwords.length > 0
            ? [
                table(
                  ['mailbox', 'password'],
                  passwords.map((one) => [safe(one.address), one.password]),
                ),
                dim('These passwords are shown only now.'),
                '',
              ]
            : []),
          ...(fault === null ? [] : [styled('red', `✕ ${safe(fault)}`), '']),
          planText(found),
        ].join('\n'),
      );
      if (done.fault !== null || done.plan.state === 'wrong') process.exitCode = EXIT.notGood;
    });
  plan
    .command('accounts <domain> <csv>')
    .description('add or correct accounts: columns user, password, address; others stay unchanged')
    .action(async (domain: string, csv: string) =>
      showPlan(await client.post<MovePlanDetails>(`${path(domain)}/accounts`, { accounts: listedAccounts(csv) })),
    );
  plan
    .command('check <domain>')
    .description('check its DNS now')
    .action(async (domain: string) => showPlan(await client.post<MovePlanDetails>(`${path(domain)}/check`, {})));
  plan
    .command('undo <domain>')
    .description('undo a step: stop a pass, remove the created mailboxes, or pass mail on to the old server again')
    .addArgument(stepArgument())
    .option('--yes', 'do not ask')
    .action(async (domain: string, step: string, options: { yes?: true }) => {
      await confirm(`Undo the step “${step}” of the move of ${domain}?`, options.yes);
      showPlan(await client.post<MovePlanDetails>(`${path(domain)}/undo`, { step }));
    });
  plan
    .command('skip <domain>')
    .description('skip a step: first-pass, short-ttl or sheets')
    .addArgument(stepArgument())
    .action(async (domain: string, step: string) => showPlan(await client.post<MovePlanDetails>(`${path(domain)}/skip`, { step })));
  plan
    .command('end <domain>')
    .description('end the plan and delete the old server’s passwords; mail stays here')
    .option('--yes', 'do not ask')
    .action(async (domain: string, options: { yes?: true }) => {
      await confirm(`End the move plan of ${domain}? From then on, its mail stays here.`, options.yes);
      show(json, await client.delete(path(domain)), () => `The move plan of ${safe(domain)} is over.`);
    });
}
