import type { TransferOrder } from '../../core/transfer/order.ts';
import type { Order, TransferKind } from '../../core/vocabulary.ts';
import type { Database } from '../../store/database.ts';
import { addEntry } from '../../store/journeys.ts';
import { StoreError } from '../../store/open-data.ts';
import type { Page, PageAsked } from '../../store/page.ts';
import { removeWorkFolders } from '../../store/transfer/work-folders.ts';
import * as store from '../../store/transfers.ts';
import { faultText, Problem } from '../base/problem.ts';
import type { StartTransfer, TransferDeps } from './deps.ts';
import { aboutExport } from './export-about.ts';
import { checkOrder } from './order-checks.ts';
import { outcomeOf } from './outcome-words.ts';
import { TransferRun } from './run.ts';

/** At the same time; each has a thread. */
const MOST_UNDER_WAY = 4;

const KIND: Record<TransferOrder['kind'], TransferKind> = { recover: 'recover', files: 'import', imap: 'import', export: 'export' };

export interface TransferDetails extends store.Transfer {
  parts: store.TransferMailbox[];
  /** The first of what was not taken. */
  leftOutList: store.LeftOut[];
}

interface UnderWay {
  run: TransferRun;
  thread: ReturnType<StartTransfer> | null;
  over: Promise<void>;
  isStopped: boolean;
}

/** Carries mail: out of backups, here from elsewhere, and out of here; some at a time. */
export class TransferKeeper {
  private readonly underWay = new Map<number, UnderWay>();
  private readonly busy = new Set<number>();
  /** Nothing begins before what others have left is gone. */
  private tidied: Promise<void> = Promise.resolve();

  constructor(private readonly context: TransferDeps) {}

  async start(): Promise<void> {
    const { db, clock, backupSettings } = this.context;
    await removeWorkFolders(backupSettings.data);
    const cutOff = await db.commit(() => store.stopBrokenTransfers(db, clock.now()));
    for (const id of cutOff) await this.goOnByItself(id);
  }

  /** What was to be repeated for hours or days is not given up for a restart. */
  private async goOnByItself(id: number): Promise<void> {
    const { db, log } = this.context;
    try {
      const order = this.askedOf(id);
      if (order.kind === 'imap' && order.untilQuietHours > 0) await this.goOn(id, db);
    } catch (error) {
      log.warn({ transfer: id, fault: faultText(error) }, 'a transfer that a stop cut off could not go on by itself');
    }
  }

  async stop(): Promise<void> {
    await Promise.all([...this.underWay.keys()].map((id) => this.breakOff(id)));
  }

  /** Begins what is asked for. `db` is that of who asks. Throws Problem for what stands in its way. */
  async begin(asked: TransferOrder, db: Database): Promise<store.Transfer> {
    this.requireRoom();
    const { keyFile, clock } = this.context;
    const { order, subject, place } = await checkOrder(this.context, asked);
    const kind = KIND[order.kind];
    const id = await db.commit(() => {
      const started = clock.now();
      addEntry(db, { at: started, journeyId: null, domain: domainOf(subject), event: 'transfer-begun', data: { kind, subject, place } });
      return store.addTransfer(db, { kind, subject, place, startedAt: started, asked: keyFile.seal(JSON.stringify(order)) });
    });
    this.run(id, order);
    return this.require(id);
  }

  /** Goes on with one that was stopped, failed, or left something out: what is there already is not taken again. */
  async goOn(id: number, db: Database): Promise<store.Transfer> {
    const { clock } = this.context;
    const { kind, state } = this.require(id);
    if (state === 'under-way')
      throw new Problem('under-way', `Transfer ${id} is under way.`, `See how far it is: tenedor transfer show ${id}`);
    if (state === 'done')
      throw new Problem('under-way', `Transfer ${id} is done.`, `Look for what has come since: tenedor transfer again ${id}`);
    this.requireRoom();
    const { order, subject, place } = await checkOrder(this.context, this.askedOf(id));
    await db.commit(() => {
      store.beginAgain(db, id);
      addEntry(db, {
        at: clock.now(),
        journeyId: null,
        domain: domainOf(subject),
        event: 'transfer-begun',
        data: { kind, subject, place },
      });
    });
    this.run(id, order);
    return this.require(id);
  }

  /** Begins another one with the same order: for what has come since. */
  async again(id: number, db: Database): Promise<store.Transfer> {
    this.require(id);
    return this.begin(this.askedOf(id), db);
  }

  private askedOf(id: number): TransferOrder {
    const { keyFile, db } = this.context;
    return JSON.parse(keyFile.open(store.askedOf(db, id) ?? '')) as TransferOrder;
  }

  /** Breaks one off; what was taken stays. */
  async stopOne(id: number): Promise<store.Transfer> {
    this.require(id);
    await this.breakOff(id);
    return this.require(id);
  }

  list(order: Order<'transfers'>, asked: PageAsked): Page<store.Transfer> {
    const page = store.pageOfTransfers(this.context.db, order, asked);
    return { ...page, rows: page.rows.map((one) => this.asItIs(one)) };
  }

  show(id: number): TransferDetails {
    const one = this.require(id);
    const { db } = this.context;
    const run = this.underWay.get(id)?.run;
    return {
      ...one,
      parts: [...(run?.mailboxes ?? store.listTransferMailboxes(db, id))].map(withoutId),
      leftOutList: store.listLeftOut(db, id),
    };
  }

  /** One of them without its mailboxes; null where there is none any more. */
  find(id: number): store.Transfer | null {
    const found = store.findTransfer(this.context.db, id);
    return found ? this.asItIs(found) : null;
  }

  /** Resolves when nothing is under way. */
  async quiet(): Promise<void> {
    await Promise.all([...this.underWay.values()].map((one) => one.over));
  }

  /** Resolves when that one has ended. */
  async over(id: number): Promise<void> {
    await this.underWay.get(id)?.over;
  }

  private async breakOff(id: number): Promise<void> {
    const one = this.underWay.get(id);
    if (!one) return;
    one.isStopped = true;
    await one.thread?.stop();
    await one.over;
  }

  private require(id: number): store.Transfer {
    const found = store.findTransfer(this.context.db, id);
    if (!found) throw new Problem('not-found', `There is no transfer ${id}.`, 'List them: tenedor transfer list');
    return this.asItIs(found);
  }

  /** What is under way is further than was written down. */
  private asItIs(one: store.Transfer): store.Transfer {
    const run = this.underWay.get(one.id)?.run;
    if (!run) return one;
    const sum = (what: 'done' | 'total' | 'taken' | 'known' | 'leftOut' | 'octets'): number =>
      run.mailboxes.reduce((total, part) => total + part[what], 0);
    return {
      ...one,
      mailboxes: run.mailboxes.length,
      ...{
        done: sum('done'),
        total: sum('total'),
        taken: sum('taken'),
        known: sum('known'),
        leftOut: sum('leftOut'),
        octets: sum('octets'),
      },
    };
  }

  private requireRoom(): void {
    if (this.underWay.size >= MOST_UNDER_WAY)
      throw new Problem('under-way', `${MOST_UNDER_WAY} transfers are under way.`, 'Wait for one to end: tenedor transfer list');
  }

  private run(id: number, order: TransferOrder): void {
    const mode = order.kind === 'export' ? 'read' : isTrial(order) ? 'count' : 'take';
    const run = new TransferRun(this.context, { id, mode, newestDomain: order.pins?.newestDomain ?? null }, this.busy);
    const one: UnderWay = { run, thread: null, over: Promise.resolve(), isStopped: false };
    this.underWay.set(id, one);
    one.over = this.end(id, order, one);
  }

  /** Throws StoreError for what the disk, or another server, says. */
  private async carry(order: TransferOrder, one: UnderWay): Promise<string | null> {
    const at = order.kind === 'imap' ? await this.context.whereIs(order.host, order.port) : null;
    if (order.kind === 'imap' && at === 'own-machine')
      throw new StoreError(`${order.host} points to this machine, which the configuration does not allow (outgoing.to_this_machine).`);
    const about = {
      export: order.kind === 'export' ? await aboutExport(this.context, order) : null,
      at: at === 'own-machine' ? null : at,
    };
    await this.tidied;
    if (one.isStopped) throw new StoreError('It was interrupted.');
    one.thread = this.context.startTransfer(order, about, one.run);
    return one.thread.result;
  }

  private async end(id: number, order: TransferOrder, one: UnderWay): Promise<void> {
    const { db, clock, log } = this.context;
    const { run } = one;
    let fault: string | null = null;
    let said: string | null = null;
    try {
      said = await this.carry(order, one);
    } catch (error) {
      if (!(error instanceof StoreError) && !one.isStopped)
        log.error({ transfer: id, fault: faultText(error) }, 'a transfer ended by a fault');
      fault = error instanceof StoreError ? error.message : 'It failed. See the service’s log for details.';
    }
    run.release();
    try {
      await run.save();
      const end = outcomeOf(KIND[order.kind], run.mailboxes, {
        ...{ fault, said, isStopped: one.isStopped },
        isTrial: isTrial(order),
      });
      const row = store.findTransfer(db, id);
      await db.commit(() => {
        store.endTransfer(db, id, { at: clock.now(), ...end });
        const subject = row?.subject ?? '';
        const data = { kind: KIND[order.kind], subject, ...end };
        addEntry(db, { at: clock.now(), journeyId: null, domain: domainOf(subject), event: 'transfer-ended', data });
      });
      log[end.state === 'failed' ? 'warn' : 'info']({ transfer: id, kind: order.kind, subject: row?.subject }, end.outcome);
    } catch (error) {
      log.error({ transfer: id, fault: faultText(error) }, 'what became of a transfer could not be written down');
    } finally {
      this.underWay.delete(id);
    }
    // One that was stopped could not tidy up.
    if (one.isStopped && this.underWay.size === 0)
      this.tidied = removeWorkFolders(this.context.backupSettings.data).catch((error: unknown) =>
        log.warn({ fault: faultText(error) }, 'what a transfer has left could not be taken away'),
      );
    await this.tidied;
  }
}

const isTrial = (order: TransferOrder): boolean => order.kind === 'imap' && order.isTrial === true;

/** The domain of what is one's or an address of it; null for several. */
const domainOf = (subject: string): string | null => (/^\S+\.\S+$/.test(subject) ? subject.slice(subject.lastIndexOf('@') + 1) : null);

const withoutId = ({
  part,
  address,
  folder,
  done,
  total,
  taken,
  known,
  leftOut,
  octets,
  isOver,
  fault,
}: store.TransferMailbox): store.TransferMailbox => ({
  ...{ part, address, folder, done, total, taken, known, leftOut, octets, isOver, fault },
});
