import { readFileSync } from 'node:fs';
import { isAbsolute } from 'node:path';
import type { BackupManifest, SealedKey } from '../../core/backup/manifest.ts';
import type { Order } from '../../core/vocabulary.ts';
import { sealKey } from '../../store/backup/sealed-key.ts';
import type { BackupWork, ListedBackup } from '../../store/backup/work.ts';
import { reasonOf, StoreError } from '../../store/open-data.ts';
import type { Page, PageAsked } from '../../store/page.ts';
import * as store from '../../store/upkeep-runs.ts';
import { BackgroundLoop } from '../base/background-loop.ts';
import { badInput, faultText, Problem } from '../base/problem.ts';
import { type BackupState, backupState, dueAt, type UnderWay } from './backup-state.ts';
import type { BackupDeps, StartBackupWork } from './deps.ts';
import { withinTime } from './within-time.ts';
import { writeRun } from './write-run.ts';

const DAY = 86_400_000;
const LOOK_EVERY_MS = 60_000;
export interface BackupRow {
  name: string;
  at: number;
  version: string;
  size: number;
  texts: number;
  textSize: number;
  counts: BackupManifest['counts'];
  lost: number;
  hasKey: boolean;
}

/** Makes backups, when it is time or somebody asks, and proves them now and then; one after the other. */
export class BackupKeeper {
  private underWay: (UnderWay & { thread: ReturnType<StartBackupWork>; over: Promise<store.UpkeepRun> }) | null = null;
  private beginning: Promise<void> = Promise.resolve();
  private readonly loop: BackgroundLoop;
  private startedAt = 0;

  constructor(private readonly context: BackupDeps) {
    const turn = (): void => this.look();
    this.loop = new BackgroundLoop({ log: context.log, failed: 'scheduled backups could not run', everyMs: LOOK_EVERY_MS, turn });
  }

  async start(): Promise<void> {
    const { db, clock } = this.context;
    await db.commit(() => store.endBrokenRuns(db, clock.now()));
    this.startedAt = clock.now();
    this.loop.start(LOOK_EVERY_MS);
  }

  async stop(): Promise<void> {
    await this.loop.stop();
    await this.underWay?.thread.stop();
    await this.underWay?.over.catch(() => {});
  }

  state(): BackupState {
    const { db, clock, backupSettings } = this.context;
    const { thread: _thread, over: _over, ...underWay } = this.underWay ?? { thread: null, over: null };
    return backupState(db, backupSettings, clock.now(), this.underWay ? (underWay as UnderWay) : null);
  }

  /** Those at the target of the configuration, or at another one; the newest first. */
  async list(target: string | null): Promise<BackupRow[]> {
    const place = target ?? this.context.backupSettings.target;
    if (place === null) return [];
    return (await this.opened(place, null)).map(({ name, manifest }) => ({
      name,
      at: manifest.at,
      version: manifest.version,
      size: manifest.database.size + manifest.texts.size,
      texts: manifest.texts.count,
      textSize: manifest.texts.size,
      counts: manifest.counts,
      lost: manifest.lost.length,
      hasKey: manifest.key !== null,
    }));
  }

  runs(order: Order<'upkeepRuns'>, asked: PageAsked): Page<store.UpkeepRun> {
    return store.pageOfRuns(this.context.db, order, asked);
  }

  /** Begins a backup. Throws Problem for what stands in its way. */
  async make(asked: { target: string | null; isByHand: boolean }): Promise<UnderWay> {
    const { backupSettings: settings, host, version, clock } = this.context;
    const target = this.place(asked.target);
    this.requireIdle();
    await this.opened(target, host.name);
    const { data, perSecond, keep } = settings;
    const order = { data, target, host: host.name, version, at: clock.now(), perSecond, keep, key: this.sealedKey() };
    // Only the usual place is held by the bucket.
    const mirror = settings.bucket !== null && target === settings.target ? { mirror: settings.bucket.settings } : {};
    return this.begin({ kind: 'backup', order, ...mirror }, { target, name: null, isByHand: asked.isByHand });
  }

  /** Begins the proof of a backup. */
  async verify(asked: { target: string | null; name: string; isByHand: boolean }): Promise<UnderWay> {
    const target = this.place(asked.target);
    this.requireIdle();
    const known = await this.opened(target, null);
    if (!known.some((one) => one.name === asked.name))
      throw new Problem(
        'not-found',
        `There is no backup “${asked.name.slice(0, 60)}” in ${target}.`,
        'List them: tenedor backup list',
        'name',
      );
    const { perSecond } = this.context.backupSettings;
    return this.begin({ kind: 'verify', target, name: asked.name, perSecond }, { target, name: asked.name, isByHand: asked.isByHand });
  }

  /** Begins a look at all that is stored; what can be mended is, if that is wanted. */
  integrity(asked: { isRepairing: boolean; isByHand: boolean }): Promise<UnderWay> {
    const { data, target, perSecond } = this.context.backupSettings;
    const order = { data, target, perSecond, isRepairing: asked.isRepairing };
    return this.begin({ kind: 'integrity', order }, { target: null, name: null, isByHand: asked.isByHand });
  }

  /** Which backup is meant; the newest where none is named. Throws Problem when there is none. */
  async meant(target: string | null, name: string | null): Promise<{ target: string; name: string }> {
    const place = this.place(target);
    const [found] = (await this.opened(place, null)).filter((one) => name === null || one.name === name);
    if (!found)
      throw new Problem(
        'not-found',
        name === null ? `There is no finished backup in ${place}.` : `There is no backup “${name.slice(0, 60)}” in ${place}.`,
        'List them: tenedor backup list',
      ).about(name ?? place);
    return { target: place, name: found.name };
  }

  /** Resolves when what is under way, or about to be, has ended. */
  async over(): Promise<void> {
    await this.beginning;
    await this.underWay?.over.catch(() => {});
  }

  private requireIdle(): void {
    if (this.underWay)
      throw new Problem('under-way', `${WORK[this.underWay.kind]} is under way.`, 'See its progress: tenedor backup state');
  }

  private async begin(
    work: Exclude<BackupWork, { kind: 'content' | 'list' }>,
    run: { target: string | null; name: string | null; isByHand: boolean },
  ): Promise<UnderWay> {
    const { clock, startBackupWork } = this.context;
    this.requireIdle();
    const startedAt = clock.now();
    const thread = startBackupWork(work, (done, total) => {
      if (this.underWay) Object.assign(this.underWay, { done, total });
    });
    // Nobody may hear of its failure before it is written down.
    thread.result.catch(() => {});
    const state: UnderWay = { kind: work.kind, target: run.target, name: run.name, startedAt, done: 0, total: 0 };
    const over = writeRun(this.context, thread.result, { kind: work.kind, startedAt, ...run });
    this.underWay = { ...state, thread, over };
    over
      .catch((error: unknown) => this.context.log.error({ fault: faultText(error) }, 'the result of a backup could not be saved'))
      .finally(() => {
        this.underWay = null;
      });
    return state;
  }

  /** Begins what is due. */
  look(): void {
    const { db, clock, backupSettings: settings, log } = this.context;
    const { target, everyHours, verifyDays } = settings;
    if (this.underWay) return;
    if (target === null) return this.lookAtIntegrity();
    const lastGood = store.lastRun(db, 'backup', true);
    const isDue = everyHours > 0 && clock.now() >= dueAt(settings, lastGood, store.lastRun(db, 'backup', false));
    const proven = store.lastRun(db, 'verify', false);
    const name = lastGood?.target === target ? lastGood.name : null;
    const isProofDue = verifyDays > 0 && name !== null && clock.now() - (proven?.startedAt ?? 0) >= verifyDays * DAY;
    const begun = isDue
      ? this.make({ target: null, isByHand: false })
      : isProofDue && name !== null
        ? this.verify({ target: null, name, isByHand: false })
        : null;
    if (!begun) return this.lookAtIntegrity();
    this.beginning = begun.then(
      () => {},
      (error: unknown) => log.error({ fault: error instanceof Problem ? error.detail : faultText(error) }, 'a backup could not start'),
    );
  }

  private lookAtIntegrity(): void {
    const { db, clock, backupSettings: settings, log } = this.context;
    const last = store.lastRun(db, 'integrity', false);
    // A new service has nothing that could have gone wrong yet.
    const since = last?.startedAt ?? this.startedAt;
    if (settings.integrityDays === 0 || clock.now() - since < settings.integrityDays * DAY) return;
    this.integrity({ isRepairing: false, isByHand: false }).catch((error: unknown) =>
      log.error({ fault: faultText(error) }, 'stored data could not be verified'),
    );
  }

  private place(asked: string | null): string {
    const target = asked ?? this.context.backupSettings.target;
    if (target === null)
      throw new Problem(
        'not-set-up',
        'The configuration has no directory for backups.',
        'Set [backup] target, or run: tenedor backup /path/to/directory',
      );
    if (!isAbsolute(target))
      throw badInput('target', `“${target.slice(0, 200)}” is not an absolute path.`, 'Give a path on the server that starts with “/”.');
    return target;
  }

  /** The backups of a target, read by a thread: a disk that does not answer keeps nobody waiting for longer than some seconds. */
  private async opened(target: string, host: string | null): Promise<ListedBackup[]> {
    const { data } = this.context.backupSettings;
    const thread = this.context.startBackupWork({ kind: 'list', target, host, data }, () => {});
    try {
      const found = await withinTime(thread.result, `The folder ${target}`);
      return found.kind === 'list' ? found.backups : [];
    } catch (error) {
      if (error instanceof StoreError) throw badInput('target', error.message, 'Choose another directory, or check its permissions.');
      throw error;
    } finally {
      thread.stop().catch(() => {});
    }
  }

  private sealedKey(): SealedKey | null {
    const { passphraseFile, keyFile } = this.context.backupSettings;
    if (passphraseFile === null) return null;
    try {
      const passphrase = readFileSync(passphraseFile, 'utf8').trim();
      if (passphrase === '') throw new StoreError('it is empty');
      return sealKey(readFileSync(keyFile, 'utf8'), passphrase);
    } catch (error) {
      throw new Problem(
        'not-set-up',
        `The passphrase file ${passphraseFile} can’t be used: ${reasonOf(error)}.`,
        'Correct [backup] passphrase_file.',
      );
    }
  }
}

const WORK = { backup: 'A backup', verify: 'The verification of a backup', integrity: 'A verification of stored data' } as const;
