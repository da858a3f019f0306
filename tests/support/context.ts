import { EventEmitter } from 'node:events';
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { carry } from '../../src/compose/carry.ts';
import { Roots } from '../../src/core/certificates/chain.ts';
import { WeightGate } from '../../src/core/gate.ts';
import type { Lookup } from '../../src/core/records/answers.ts';
import { OctetBudget } from '../../src/core/smtp/octet-budget.ts';
import { acceptMessage } from '../../src/service/acceptance/accept-message.ts';
import { type PlannedRecipient, plainRecipient } from '../../src/service/acceptance/planned-recipient.ts';
import { ReportLimit } from '../../src/service/acceptance/report-limit.ts';
import { Passes } from '../../src/service/access/passes.ts';
import { PasswordChecks } from '../../src/service/access/password-checks.ts';
import { Sessions } from '../../src/service/access/sessions.ts';
import { SignInGuard } from '../../src/service/access/sign-in-guard.ts';
import { SignInHistory } from '../../src/service/access/sign-in-history.ts';
import { SignInTroubles } from '../../src/service/access/sign-in-troubles.ts';
import type { ServiceContext } from '../../src/service/app/context.ts';
import { followRows } from '../../src/service/app/follow-rows.ts';
import { BackupKeeper } from '../../src/service/backups/backup-keeper.ts';
import { GivenHashes } from '../../src/service/base/given-hashes.ts';
import { LongRuns } from '../../src/service/base/long-runs.ts';
import { LoopWatch } from '../../src/service/base/loop-watch.ts';
import { Metrics } from '../../src/service/base/metrics.ts';
import type { CallOut, SendMail } from '../../src/service/base/ports.ts';
import { Space } from '../../src/service/base/space.ts';
import { HeldCertificates } from '../../src/service/certificates/held-certificates.ts';
import { addCustomer, addPlan } from '../../src/service/directory/customers.ts';
import { addDomain } from '../../src/service/directory/domains.ts';
import { isRefused, NOTHING_LOADED } from '../../src/service/directory/lists/load-result.ts';
import { addMailbox } from '../../src/service/directory/mailboxes.ts';
import { SigningKeys } from '../../src/service/directory/signing-keys.ts';
import { Brakes } from '../../src/service/limits/brakes.ts';
import { Holds } from '../../src/service/limits/holds.ts';
import { LimitKeeper } from '../../src/service/limits/limit-keeper.ts';
import { Stops } from '../../src/service/limits/stops-in-force.ts';
import { UnusualWatch } from '../../src/service/limits/unusual.ts';
import { AccessDesk } from '../../src/service/mailbox/access-desk.ts';
import { Notices } from '../../src/service/notices/notices.ts';
import { PrimaryQuestions } from '../../src/service/reception/primary-questions.ts';
import { TransferKeeper } from '../../src/service/transfers/transfer-keeper.ts';
import { doBackupWork } from '../../src/store/backup/work.ts';
import { Database } from '../../src/store/database.ts';
import { findDomainFacts } from '../../src/store/domains.ts';
import { KeyFile } from '../../src/store/key-file.ts';
import type { Payer } from '../../src/store/ledger.ts';
import { findMailbox } from '../../src/store/mailboxes.ts';
import { MessageFiles } from '../../src/store/message-files.ts';
import { MessageTexts } from '../../src/store/message-texts.ts';
import { lookupIn } from './lookup.ts';

/** A service without sockets and with the test's own clock: for use cases that time decides. */
export interface Bare {
  context: ServiceContext;
  folder: string;
  clock: { wall: number; steady: number };
  faults: string[];
  /** Moves both clocks. */
  pass(ms: number): void;
  /** Accepts a message of a mailbox to the outside, with its room reserved, as a conversation does; false when there is none. */
  submit(from: string, to: string[], options?: { bytes?: number; subject?: string }): Promise<string | null>;
  close(): void;
}

const unused = (): never => {
  throw new Error('not for this test');
};

export const PLAN = {
  quotaBytes: 1024 ** 3,
  mostMailboxes: 9,
  whenFull: 'refuse' as const,
  holdMost: 500,
  holdHours: 24,
  unusual: 'flag' as const,
  brakeShare: 40,
  brakeLeast: 20,
  indexTexts: false,
};

export async function openBare(
  options: { start?: number; zone?: string; lookup?: Lookup; send?: SendMail; callOut?: CallOut; folder?: string; fresh?: boolean } = {},
): Promise<Bare> {
  const folder = options.folder ?? mkdtempSync(join(tmpdir(), 'tenedor-bare-'));
  const start = options.start ?? 1_790_000_000_000;
  const time = { wall: start, steady: start };
  const db = Database.open(folder);
  const clock = {
    now: () => time.wall,
    steady: () => time.steady,
    ahead: 0,
    stepped: 0,
    realign: () => {
      time.steady = time.wall;
    },
  };
  const faults: string[] = [];
  const keyFile = KeyFile.open(join(folder, 'secrets.key'));
  const context: ServiceContext = {
    db,
    texts: new MessageTexts(db, new MessageFiles(folder), () => {}),
    clock,
    host: {
      name: 'mail.host.example',
      addresses: ['192.0.2.25'],
      postmaster: 'post@shop.example',
      maxMessageBytes: 1e6,
      blockLists: [],
      refuseListed: [],
    },
    loads: new LongRuns(NOTHING_LOADED, unused, isRefused),
    keepRemovedDays: 30,
    lookup: options.lookup ?? lookupIn([]),
    dns: {
      forget: () => {},
      openViews: unused,
      beginChecks: unused,
      openServer: unused,
      update: unused,
      greeting: unused,
      askResolvers: async () => [],
      resolvers: () => [],
      routes: () => [],
    },
    log: { info: () => {}, warn: () => {}, error: (data, text) => void faults.push(`${text} ${JSON.stringify(data)}`) },
    limits: new LimitKeeper(db, clock, options.zone ?? 'UTC'),
    holds: new Holds(db),
    stops: new Stops(db),
    brakes: new Brakes(() => context),
    notices: new Notices(() => context),
    get unusual() {
      return unusual;
    },
    keyFile,
    returnKey: keyFile.derived('return addresses'),
    send: options.send ?? unused,
    walk: unused,
    backupSettings: {
      data: folder,
      keyFile: join(folder, 'secrets.key'),
      target: null,
      everyHours: 24,
      verifyDays: 7,
      integrityDays: 7,
      perSecond: 0,
      keep: { daily: 7, weekly: 5, monthly: 12 },
      passphraseFile: null,
      bucket: null,
    },
    startBackupWork: (work, onProgress) => ({ result: doBackupWork(work, onProgress), stop: async () => {} }),
    configuration: { changes: unused, reload: unused },
    get backups() {
      return backups;
    },
    // Here instead of in a thread.
    startTransfer: (order, { export: about, at }, sink) => ({
      result: carry({ order, data: folder, mostOctets: context.host.maxMessageBytes, about, at, roots: null }, sink),
      stop: async () => {},
    }),
    whereIs: async (address, port) => ({ address, port }),
    get transfers() {
      return transfers;
    },
    witnesses: { publicKey: '', ask: unused, answer: unused },
    askOut: unused,
    callOut: options.callOut ?? unused,
    keys: new SigningKeys(db, keyFile),
    signals: new EventEmitter(),
    metrics: new Metrics(db),
    reports: new ReportLimit(),
    guards: { mailboxes: new SignInGuard(), console: new SignInGuard() },
    passwords: new PasswordChecks(2, new GivenHashes().matches),
    recovery: { take: () => null },
    handingOver: new Set(),
    desk: new AccessDesk(() => context),
    loop: new LoopWatch(() => time.wall),
    space: new Space(async () => ({ free: 1e12, total: 2e12 }), { info: () => {}, warn: () => {}, error: () => {} }),
    sessions: new Sessions(),
    signInTroubles: new SignInTroubles(),
    signInHistory: new SignInHistory(),
    underWay: new OctetBudget(64 * 1024 * 1024, () => time.steady),
    taking: new WeightGate(64 * 1024 * 1024),
    primaries: new PrimaryQuestions(clock),
    checkRuns: { latest: null },
    certificates: new HeldCertificates({ db, keyFile, clock, log: { info: () => {}, warn: () => {}, error: () => {} } }, new Roots([]), []),
    authority: null,
    passes: new Passes(),
    rehearse: unused,
    mailServer: () => context.host.name,
    challenges: new Map(),
    hasChallengePort: false,
    tlsPorts: () => [],
    probe: unused,
    checkEveryMs: 0,
    random: () => 0.5,
    changelog: () => [],
    version: 'test',
  };
  const unusual = new UnusualWatch(context);
  const backups = new BackupKeeper(context);
  const transfers = new TransferKeeper(context);
  followRows(context);
  if (options.fresh !== false) {
    await addPlan(context, { ...PLAN, name: 'p' });
    await addCustomer(context, 'c');
    await addDomain(context, { name: 'shop.example', customer: 'c', plan: 'p', role: 'home' });
    await addMailbox(context, { address: 'ana@shop.example', password: null, quotaBytes: null });
  }
  let serial = 0;
  return {
    context,
    folder,
    clock: time,
    faults,
    pass: (ms) => {
      time.wall += ms;
      time.steady += ms;
    },
    submit: async (from, to, { bytes = 1000, subject = '' } = {}) => {
      const at = from.lastIndexOf('@');
      const domain = from.slice(at + 1);
      const facts = findDomainFacts(db, domain);
      const payer: Payer = {
        customerId: facts?.customerId ?? null,
        domainId: facts?.id ?? null,
        mailboxId: findMailbox(db, from.slice(0, at), domain)?.id ?? null,
        networkId: null,
        domain,
        mailbox: from,
        kind: 'submitted',
      };
      const reservation = context.limits.reserve(payer, { messages: 1, sends: to.length, bytes });
      if (reservation.kind === 'full') return null;
      serial += 1;
      const id = `sub${serial}x${time.wall}`;
      const planned = to.map((address): PlannedRecipient => {
        const destination = { kind: 'outside' as const, address, domain: address.slice(address.lastIndexOf('@') + 1), payer: null };
        return { ...plainRecipient(destination), isCharged: true };
      });
      await acceptMessage(context, {
        journey: { ...journeyOf(id, time.wall, from), domain, mailbox: from, subject, recipients: to.join(', ') },
        content: Buffer.from(`Subject: ${subject || id}\r\n\r\nx\r\n`),
        recipients: planned,
        steps: [],
        folder: 'Inbox',
        payer: { reservation, payer, bytes },
      });
      return id;
    },
    close: () => {
      db.close();
      if (options.folder === undefined) rmSync(folder, { recursive: true });
    },
  };
}

/** A submitted journey about which nothing special was said. */
export const journeyOf = (id: string, at: number, sender: string | null) => ({
  id,
  at,
  kind: 'submitted' as const,
  sender,
  recipients: '',
  subject: '',
  client: 'test',
  domain: 'shop.example',
  mailbox: null,
  messageId: null,
  envelopeId: null,
  returnContent: null,
  smtputf8: false,
  signsFor: null,
  isVouched: true,
  isDisowned: false,
});
