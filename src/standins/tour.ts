import { spawn } from 'node:child_process';
import { once } from 'node:events';
import { SUBJECTS } from '../core/vocabulary.ts';
import type { News } from '../service/base/ports.ts';
import { countQueue } from '../store/queue.ts';
import type { World } from './demo-world.ts';
import { askForQueue, bring, submit } from './mail-client.ts';
import { standBy } from './reserve.ts';
import { HOST, PROVIDERS, RESERVE } from './world.ts';

const DOMAIN = 'vivero-luna.example';
const OFFICE = '198.51.100.120';

interface Run {
  code: number;
  stdout: string;
  stderr: string;
}

/** Runs the whole job once, from taking a domain on to a message's journey, and says of each step whether it came out as expected. */
export async function runTour(world: World, program: string): Promise<boolean> {
  const { service, dns, resolver, providers, claimed } = world;
  let step = 0;
  let good = true;
  const title = (text: string): void => {
    step += 1;
    process.stdout.write(`\n── ${step}. ${text}\n\n`);
  };
  const expect = (what: string, met: boolean): void => {
    process.stdout.write(`   ${met ? '✓ as expected:' : '✕ NOT as expected:'} ${what}\n`);
    good &&= met;
  };
  const tenedor = async (...args: string[]): Promise<Run> => {
    process.stdout.write(`$ tenedor ${args.map((one) => (/[\s']/.test(one) ? `"${one}"` : one)).join(' ')}\n`);
    const child = spawn(process.execPath, [program, ...args], {
      env: { ...process.env, TENEDOR_CLIENT: world.accessFile },
      stdio: ['ignore', 'pipe', 'pipe'],
    });
    const run: Run = { code: 0, stdout: '', stderr: '' };
    child.stdout.on('data', (bytes) => {
      run.stdout += bytes;
    });
    child.stderr.on('data', (bytes) => {
      run.stderr += bytes;
    });
    const [code] = await once(child, 'close');
    run.code = Number(code);
    process.stdout.write(`${(run.stdout + run.stderr).replace(/^(?=.)/gm, '  ')}\n`);
    return run;
  };
  const send = async (to: string[], subject: string): Promise<string> => {
    const [reply = ''] = await submit(
      claimed.submissions,
      OFFICE,
      { address: HOST.addresses[0] ?? '' },
      { user: `rosa@${DOMAIN}`, password },
      [{ from: `rosa@${DOMAIN}`, to, subject, body: 'Seedlings are ready.' }],
    );
    process.stdout.write(`  rosa@${DOMAIN} sends to ${to.join(', ')}\n    → ${reply}\n`);
    return reply;
  };
  const idOf = (reply: string): string => /Accepted as (\S+)/.exec(reply)?.[1] ?? '';
  /** `check --wait`; what the resolver keeps runs out after the first look, so that the tour waits seconds and not minutes. */
  const untilArrived = async (): Promise<Run> => {
    const unseen = new Set<string>(SUBJECTS);
    const look = (news: News): void => {
      if (news.kind !== 'check-step' || news.domain !== DOMAIN || !unseen.delete(news.subject) || unseen.size > 0) return;
      resolver.forget();
    };
    service.context.signals.on('news', look);
    const run = await tenedor('check', '--wait', DOMAIN);
    service.context.signals.off('news', look);
    return run;
  };
  let password = '';

  title('Add a domain');
  await tenedor('customer', 'add', 'Vivero Luna');
  const added = await tenedor('domain', 'add', DOMAIN, '--customer', 'Vivero Luna');
  expect('the domain is added', added.code === 0);

  title('What it should publish');
  const records = await tenedor('records', DOMAIN);
  expect(
    'the sheet has MX, SPF, DKIM and DMARC',
    ['MX', 'v=spf1', 'v=DKIM1', 'v=DMARC1'].every((part) => records.stdout.includes(part)),
  );

  title('Check, before anything is published');
  const before = await tenedor('check', DOMAIN);
  expect('exit code 1: records are missing', before.code === 1 && before.stdout.includes('missing'));

  title('The customer publishes the records; check again');
  const sheet = JSON.parse((await tenedorJson(program, world, 'records', DOMAIN)).stdout) as {
    records: Parameters<typeof dns.typeIn>[0][];
  };
  dns.typeIn(...sheet.records.filter((record) => record.where === 'domain'));
  const early = await tenedor('check', DOMAIN);
  expect('exit code 1: correct at the source, old in the resolver', early.code === 1 && early.stdout.includes('waiting'));
  const after = await untilArrived();
  expect('exit code 0, readiness 100', after.code === 0 && after.stdout.includes('readiness 100'));

  title('Add a mailbox');
  const mailbox = await tenedor('mailbox', 'add', `rosa@${DOMAIN}`);
  password = /password\s+(\S+)/.exec(mailbox.stdout)?.[1] ?? '';
  expect('a generated password is shown', password.length > 15);

  title('Send to each provider, and see where it lands');
  let slowJourney = '';
  let lastJourney = '';
  for (const { domain, temper } of PROVIDERS) {
    const provider = providers.find((one) => one.domain === domain);
    const attempted = once(service.context.signals, 'attempted');
    const filed = temper === 'slow' ? null : provider?.nextFiled();
    const id = idOf(await send([`leo@${domain}`], `Seedlings for ${domain}`));
    await attempted;
    if (temper === 'slow') {
      slowJourney = id;
      continue;
    }
    lastJourney = id;
    const message = await filed;
    process.stdout.write(
      `    ${domain} filed it into ${message?.folder}: SPF ${message?.judgement.spf.result}, DKIM ${message?.judgement.dkim.map((one) => one.result).join()}, DMARC ${message?.judgement.dmarc.result}\n`,
    );
    expect(
      `${domain} delivers it to the Inbox; SPF, DKIM and DMARC pass`,
      message?.folder === 'Inbox' &&
        message.judgement.spf.result === 'pass' &&
        message.judgement.dkim[0]?.result === 'pass' &&
        message.judgement.dmarc.result === 'pass',
    );
  }

  title('The slow provider said “later”: check the queue, and try again now');
  const delayed = await tenedor('queue', 'list');
  expect('one recipient is delayed', delayed.stdout.includes('delayed') && delayed.stdout.includes(slowJourney));
  const relayed = once(service.context.signals, 'attempted');
  await tenedor('queue', 'retry', slowJourney);
  await relayed;
  const empty = await tenedor('queue', 'list');
  expect('the queue is empty', empty.stdout.includes('empty'));

  title('A forged and a genuine message from northpost.example arrive');
  const letter = { from: 'mar.soto@northpost.example', to: [`rosa@${DOMAIN}`], subject: 'Order for spring', body: 'Two trays, please.' };
  const arrive = async (address: string, helo: string): Promise<string> => {
    const reply = await bring(claimed.smtp, { address, helo }, { address: HOST.addresses[0] ?? '' }, letter);
    process.stdout.write(`  ${letter.from} to ${letter.to[0]}, from ${address}\n    → ${reply}\n`);
    return reply;
  };
  const forged = await arrive('203.0.113.66', 'unknown.example');
  expect(
    'the forged one is refused, 550 5.7.26 with the failing part',
    forged.startsWith('550 5.7.26') && forged.includes('SPF gives fail'),
  );
  const genuine = await arrive('203.0.113.10', 'mx.northpost.example');
  const judged = await tenedor('journey', idOf(genuine));
  expect(
    'the genuine one is in the Inbox, and its journey shows how it was judged',
    judged.stdout.includes('DMARC pass for northpost.example'),
  );

  title('Change the DKIM key');
  const prepared = JSON.parse((await tenedorJson(program, world, 'key', 'prepare', DOMAIN, '--selector', 'spring')).stdout) as {
    record: Parameters<typeof dns.typeIn>[0];
  };
  const refused = await tenedor('key', 'activate', DOMAIN, 'spring');
  expect('exit code 3: not published yet', refused.code === 3);
  dns.typeIn(prepared.record);
  await untilArrived();
  const activated = await tenedor('key', 'activate', DOMAIN, 'spring');
  expect('published, verified, and active', activated.code === 0);
  const keys = await tenedor('key', 'list', DOMAIN);
  expect(
    'the old key is retiring, and stays published for now',
    /retiring/.test(keys.stdout) && keys.stdout.includes('Leave its record published'),
  );

  title('Send more than the limit allows');
  await tenedor('limit', 'set', DOMAIN, 'hour=5');
  const replies: string[] = [];
  for (let number = 1; number <= 4; number += 1) replies.push(await send([`leo@openbay.example`], `Offer ${number}`));
  expect(
    'two more are accepted (three were sent before), then 452 4.7.28 with the time of new room',
    replies.filter((one) => one.startsWith('250')).length === 2 &&
      replies.slice(2).every((one) => one.startsWith('452 4.7.28') && one.includes('room again at')),
  );
  const ledger = await tenedor('ledger', DOMAIN);
  expect('the ledger shows 5 of 5', ledger.stdout.includes('5 of 5'));

  title('Hold what exceeds the limit instead');
  await tenedor('limit', 'set', DOMAIN, '--when-full', 'hold');
  const kept = await send([`leo@openbay.example`], 'Offer 5');
  const held = await tenedor('queue', 'list', '--held', 'limit');
  expect('it is accepted, and waits for room under the limit', kept.startsWith('250') && held.stdout.includes('room under a limit'));
  const gone = once(service.context.signals, 'attempted');
  await tenedor('limit', 'raise', DOMAIN, 'hour=10', '--until', '2h', '--reason', 'autumn catalogue');
  await gone;
  const afterwards = await tenedor('queue', 'list');
  expect('with the limit raised for two hours, it is sent automatically', afterwards.stdout.includes('empty'));

  title('Predict a message’s path, without sending it');
  const explained = await tenedor('explain', '--from', `rosa@${DOMAIN}`, '--to', 'leo@openbay.example', '--as', `rosa@${DOMAIN}`);
  expect('step by step up to the outlet', explained.code === 0 && explained.stdout.includes('leaves through “direct”'));

  title('One message’s journey');
  const journey = await tenedor('journey', lastJourney);
  expect(
    'the journey goes from connection to the provider’s reply',
    ['connected', 'accepted', 'charged', 'signed', 'relayed'].every((event) => journey.stdout.includes(event)),
  );

  title('The primary stops: the backup MX keeps mail, and delivers it later');
  await standBy(world.reserve.service, DOMAIN, 'Olmo Bakery', 'standard');
  const knock = async (subject: string, to = `rosa@${DOMAIN}`): Promise<string> => {
    const reply = await bring(
      world.reserve.smtpPort,
      { address: '203.0.113.20', helo: 'mx.openbay.example' },
      { address: RESERVE.address },
      { from: 'leo@openbay.example', to: [to], subject, body: 'Are you there?' },
    );
    process.stdout.write(`  leo@openbay.example to ${to}, at ${RESERVE.name}\n    → ${reply}\n`);
    return reply;
  };
  const handed = once(world.reserve.service.context.signals, 'attempted');
  const direct = await knock('Before');
  await handed;
  expect('while the primary is up, it is asked whether rosa exists, and gets the mail immediately', direct.startsWith('250'));
  await world.stopPrimary();
  process.stdout.write('  (the primary is stopped)\n');
  const waiting = await knock('Meanwhile');
  const stranger = await knock('Who?', `nobody@${DOMAIN}`);
  expect(
    'mail for rosa is kept; mail for an unknown address is deferred, so that nothing bounces',
    waiting.startsWith('250') && stranger.startsWith('451'),
  );
  await world.startPrimary();
  process.stdout.write('  (the primary is back, and requests its mail: ETRN)\n');
  const arrived = new Promise<void>((resolve) => {
    const { signals } = world.reserve.service.context;
    const look = (): void => {
      if (countQueue(world.reserve.service.context.db) > 0) return;
      signals.off('attempted', look);
      resolve();
    };
    signals.on('attempted', look);
  });
  const started = await askForQueue(
    world.reserve.smtpPort,
    { address: HOST.addresses[0] ?? '', helo: HOST.name },
    { address: RESERVE.address },
    DOMAIN,
  );
  process.stdout.write(`  ETRN ${DOMAIN}\n    → ${started}\n`);
  await arrived;
  const found = await tenedor('traffic', '--domain', DOMAIN, '--search', 'Meanwhile');
  expect('the kept message is in rosa’s mailbox', started.startsWith('250') && found.stdout.includes('delivered'));

  process.stdout.write(`\n${good ? 'Every step came out as expected.' : 'Not every step came out as expected.'}\n`);
  return good;
}

async function tenedorJson(program: string, world: World, ...args: string[]): Promise<Run> {
  const child = spawn(process.execPath, [program, '--json', ...args], {
    env: { ...process.env, TENEDOR_CLIENT: world.accessFile },
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  let stdout = '';
  child.stdout.on('data', (bytes) => {
    stdout += bytes;
  });
  const [code] = await once(child, 'close');
  return { code: Number(code), stdout, stderr: '' };
}
