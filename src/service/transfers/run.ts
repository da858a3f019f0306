import { parseNewLocalPart } from '../../core/address/mailbox-address.ts';
import type { CarriedFolder, CarriedMailbox, CarriedMessage, CarryState, FollowedMark, PutResult, Sink } from '../../core/transfer/sink.ts';
import { findDomainFacts } from '../../store/domains.ts';
import { addEntry } from '../../store/journeys.ts';
import { addMailbox, findAlias, findMailbox, roomForMailboxes } from '../../store/mailboxes.ts';
import * as store from '../../store/transfers.ts';
import { faultText } from '../base/problem.ts';
import type { TransferDeps } from './deps.ts';
import { followFlags } from './follow-flags.ts';
import { takeIn } from './take-in.ts';

const SAVE_EVERY_MS = 1000;

interface Part extends store.TransferMailbox {
  mailboxId: number;
}

export interface RunSettings {
  id: number;
  /** Whether it takes mail, reads what is here, or only counts what lies elsewhere: then no mailbox is needed. */
  mode: 'take' | 'read' | 'count';
  /** When it was asked for: domains that came later are of somebody else. */
  newestDomain: number | null;
}

/** One transfer under way: what its thread asks and tells, and what is written down of it. */
export class TransferRun implements Sink {
  private readonly parts = new Map<number, Part>();
  private readonly unsaved = new Set<number>();
  private readonly knownBefore = new Map<number, number>();
  private leftOutUnsaved: (store.LeftOut & { number: number })[] = [];
  private leftOutCount = 0;
  private savedAt = 0;

  constructor(
    private readonly context: TransferDeps,
    private readonly settings: RunSettings,
    /** Mailboxes that something comes into: one transfer at a time for each. */
    private readonly busy: Set<number>,
  ) {}

  async open(address: string, missing: CarriedMailbox | null): Promise<{ part: number; isNew: boolean } | { refused: string }> {
    const part = this.parts.size + 1;
    const found = this.settings.mode === 'count' ? { id: 0, isNew: false } : await this.mailboxFor(address, missing);
    const mailboxId = 'refused' in found ? 0 : found.id;
    this.parts.set(part, {
      ...{ part, address, mailboxId, folder: '', done: 0, total: 0, taken: 0, known: 0, leftOut: 0, octets: 0, isOver: 'refused' in found },
      fault: 'refused' in found ? found.refused : null,
    });
    this.changed(part);
    if ('refused' in found) return found;
    if (this.settings.mode === 'take') this.busy.add(mailboxId);
    return { part, isNew: found.isNew };
  }

  async known(part: number, keys: readonly string[]): Promise<boolean[]> {
    const { mailboxId } = this.part(part);
    const files = keys.filter((key) => key.startsWith('text:')).map((key) => key.slice(5));
    const there = store.textsThere(this.context.db, mailboxId, files);
    const taken = store.takenKeys(
      this.context.db,
      mailboxId,
      keys.filter((key) => !key.startsWith('text:')),
    );
    return keys.map((key) => taken.has(key) || (key.startsWith('text:') && there.has(key.slice(5))));
  }

  async put(part: number, folder: CarriedFolder, messages: readonly CarriedMessage[]): Promise<PutResult> {
    const one = this.part(part);
    const result = await takeIn(this.context, one.mailboxId, folder, messages);
    one.taken += result.taken;
    one.octets += result.octets;
    one.known += result.known;
    this.changed(part);
    return result;
  }

  follow(part: number, marks: readonly FollowedMark[]): Promise<number> {
    return followFlags(this.context, this.part(part).mailboxId, marks);
  }

  progress(part: number, { done, known, total, folder, written }: CarryState): void {
    const one = this.part(part);
    // What was known beforehand is told here, what is found when it comes is counted there.
    one.known += known - (this.knownBefore.get(part) ?? 0);
    this.knownBefore.set(part, known);
    Object.assign(one, { done, total, folder });
    if (written) Object.assign(one, { taken: written.messages, octets: written.octets });
    this.changed(part);
  }

  leftOut(part: number, folder: string, what: string, why: string): void {
    const one = this.part(part);
    one.leftOut += 1;
    this.leftOutCount += 1;
    if (this.leftOutCount <= store.MOST_LEFT_OUT)
      this.leftOutUnsaved.push({ number: this.leftOutCount, address: one.address, folder, what, why });
    this.changed(part);
  }

  close(part: number, fault: string | null): void {
    const one = this.part(part);
    one.isOver = true;
    one.fault = fault;
    this.busy.delete(one.mailboxId);
    this.changed(part);
  }

  /** All of it is written down. */
  async save(): Promise<void> {
    const { db } = this.context;
    const some = [...this.unsaved];
    const leftOut = this.leftOutUnsaved;
    this.unsaved.clear();
    this.leftOutUnsaved = [];
    this.savedAt = this.context.clock.steady();
    await db.commit(() => {
      for (const part of some) store.keepTransferMailbox(db, this.settings.id, this.part(part));
      for (const one of leftOut) store.addLeftOut(db, this.settings.id, one.number, one);
    });
  }

  /** Lets go of the mailboxes that it had open. */
  release(): void {
    for (const { mailboxId } of this.parts.values()) this.busy.delete(mailboxId);
  }

  get mailboxes(): readonly store.TransferMailbox[] {
    return [...this.parts.values()];
  }

  private part(number: number): Part {
    const part = this.parts.get(number);
    if (!part) throw new Error('no such part');
    return part;
  }

  private changed(part: number): void {
    this.unsaved.add(part);
    if (this.context.clock.steady() - this.savedAt < SAVE_EVERY_MS) return;
    this.save().catch((error: unknown) =>
      this.context.log.warn({ fault: faultText(error) }, 'how far a transfer has come could not be written down'),
    );
  }

  /** The mailbox of an address; one that is not there is made, where it is known how it was. */
  private async mailboxFor(address: string, missing: CarriedMailbox | null): Promise<{ id: number; isNew: boolean } | { refused: string }> {
    const { db, clock } = this.context;
    const at = address.lastIndexOf('@');
    const parsed = parseNewLocalPart(address.slice(0, at));
    const domainName = address.slice(at + 1).toLowerCase();
    if (parsed.kind === 'invalid') return { refused: `“${address.slice(0, 80)}” can’t be an address here.` };
    const { local } = parsed;
    const { newestDomain } = this.settings;
    if (newestDomain !== null && (findDomainFacts(db, domainName)?.id ?? 0) > newestDomain)
      return { refused: `${domainName} was added after this was asked for: ask for it anew.` };
    const found = findMailbox(db, local, domainName);
    if (found && this.settings.mode === 'take' && this.busy.has(found.id))
      return { refused: 'Other mail is being brought into it at the moment.' };
    if (found) return { id: found.id, isNew: false };
    if (missing === null) return { refused: `There is no mailbox ${local}@${domainName} here.` };
    return db.commit(() => {
      const domain = findDomainFacts(db, domainName);
      if (domain?.role !== 'home') return { refused: `${domainName} has no mailboxes here.` };
      if (findMailbox(db, local, domainName) || findAlias(db, local, domainName)) return { refused: 'An alias has that address now.' };
      const room = roomForMailboxes(db, domainName);
      if (room && room.has >= room.most) return { refused: `${domainName} has as many mailboxes as its plan “${room.plan}” allows.` };
      const id = addMailbox(db, { domainId: domain.id, local, ...missing }, clock.now());
      addEntry(db, {
        at: clock.now(),
        journeyId: null,
        domain: domainName,
        event: 'mailbox-added',
        data: { address: `${local}@${domainName}` },
      });
      return { id, isNew: true };
    });
  }
}
