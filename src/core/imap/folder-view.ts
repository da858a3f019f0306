import { flagNames } from '../mailbox/flags.ts';
import type { Folder } from '../mailbox/operations.ts';
import { normalRanges, type Range, rangesOf, rangesText } from '../mailbox/uid-set.ts';
import { breathe } from '../pieces.ts';
import type { Mailroom, Mark } from './mailroom.ts';
import { MarkTable } from './mark-table.ts';
import { STAR } from './tokens.ts';

/** Marks that are read in one turn. */
const A_PIECE = 5000;

/**
 * A selected folder as one session knows it: which message has which sequence number, and what the client was told of each. Sequence numbers
 * change only when the client is told (RFC 3501 §7.4.1), so what is expunged keeps its number until then. A message takes some twenty octets.
 */
export class FolderView {
  private readonly table = new MarkTable();
  /** What the client was told of. */
  private told = 0;
  /** Messages whose marks are to be told, by UID. */
  private marked = new Set<number>();
  private gone = new Set<number>();
  /** All keywords that the client was told of with FLAGS. */
  private knownKeywords = new Set<string>();
  modseq = 0;

  private constructor(
    private readonly mailroom: Mailroom,
    readonly folder: Folder,
    readonly isReadOnly: boolean,
  ) {}

  /** Reads all messages of a folder, in pieces. */
  static async open(mailroom: Mailroom, folder: Folder, isReadOnly: boolean): Promise<FolderView> {
    const view = new FolderView(mailroom, folder, isReadOnly);
    view.modseq = folder.highestModseq;
    await view.readAll();
    view.told = view.count;
    return view;
  }

  get count(): number {
    return this.table.length;
  }

  /** All keywords of the folder, as far as is known. */
  get allKeywords(): string[] {
    return this.table.allKeywords;
  }

  uidAt(sequence: number): number {
    return this.table.uidAt(sequence - 1);
  }

  markAt(sequence: number): Mark {
    return this.table.at(sequence - 1);
  }

  isGone(uid: number): boolean {
    return this.gone.has(uid);
  }

  /** The sequence number of a message, or 0. */
  sequenceOf(uid: number): number {
    const at = this.table.placeFrom(uid);
    return at < this.count && this.table.uidAt(at) === uid ? at + 1 : 0;
  }

  /** The first message with that UID or a higher one, by sequence number. */
  sequenceFrom(uid: number): number {
    return this.table.placeFrom(uid) + 1;
  }

  get lastUid(): number {
    return this.count === 0 ? 0 : this.table.uidAt(this.count - 1);
  }

  /** Ranges of sequence numbers that a set means, `*` being the last; null when it names some that are not there (RFC 3501 §6.4.8: a UID may). */
  resolve(ranges: readonly Range[], byUid: boolean): Range[] | null {
    const last = byUid ? this.lastUid : this.count;
    const found: Range[] = [];
    for (const [from, to] of ranges) {
      const [low, high] = [from === STAR ? last : from, to === STAR ? last : to].sort((one, other) => one - other) as [number, number];
      if (!byUid) {
        if (low < 1 || high > this.count) return null;
        found.push([low, high]);
        continue;
      }
      const first = this.sequenceFrom(low);
      const end = this.sequenceFrom(high + 1) - 1;
      if (first <= end) found.push([first, end]);
    }
    return normalRanges(found);
  }

  /** The UIDs that ranges of sequence numbers are, as ranges. */
  uidsOf(sequences: readonly Range[]): Range[] {
    const uids: number[] = [];
    for (const [from, to] of sequences) for (let sequence = from; sequence <= to; sequence += 1) uids.push(this.uidAt(sequence));
    return rangesOf(uids);
  }

  /** Takes in what has happened since; what the client has to hear of it waits for `news`. False when the folder is gone. */
  async update(): Promise<boolean> {
    const now = this.mailroom.folder(this.folder.id);
    if (!now) return false;
    if (now.highestModseq === this.modseq) return true;
    // Whoever knew a state that is forgotten compares all.
    if (now.forgottenModseq > this.modseq) {
      await this.reread();
    } else {
      for (const uid of this.mailroom.expunged(this.folder.id, this.modseq, Number.MAX_SAFE_INTEGER))
        if (this.sequenceOf(uid) > 0) this.gone.add(uid);
      for (const mark of await this.changedSince(this.modseq)) this.note(mark);
    }
    this.modseq = now.highestModseq;
    return true;
  }

  /** Whether the client has yet to hear how a message is marked. */
  isUntold(uid: number): boolean {
    return this.marked.has(uid);
  }

  /** A change that this session asked for itself, and need not be told of: those that are exactly so now. */
  forgetMark(uid: number): void {
    this.marked.delete(uid);
  }

  /**
   * What the client has to hear now, as untagged responses (RFC 3501 §7.3.1, §7.4.1, RFC 7162 §3.2.10). Without `mayExpunge` nothing that changes
   * sequence numbers is said.
   */
  news({
    mayExpunge,
    withModseq,
    asVanished,
    withUid,
  }: {
    mayExpunge: boolean;
    withModseq: boolean;
    asVanished: boolean;
    withUid: boolean;
  }): string {
    const said: string[] = [];
    if (mayExpunge && this.gone.size > 0) said.push(this.tellGone(asVanished));
    said.push(this.exists());
    if (this.marked.size > 0) {
      said.push(this.newKeywords());
      const marked = [...this.marked].sort((one, other) => one - other);
      this.marked.clear();
      for (const uid of marked) {
        const sequence = this.sequenceOf(uid);
        if (sequence === 0 || this.gone.has(uid)) continue;
        const mark = this.markAt(sequence);
        const uidText = withUid || withModseq ? `UID ${uid} ` : '';
        const modseqText = withModseq ? ` MODSEQ (${mark.modseq})` : '';
        said.push(`* ${sequence} FETCH (${uidText}FLAGS (${flagNames(mark)})${modseqText})\r\n`);
      }
    }
    return said.join('');
  }

  /** EXISTS, when there is more than the client was told of. It may come at any time, and comes before any command that might mean the new ones. */
  exists(): string {
    if (this.count === this.told) return '';
    this.told = this.count;
    return `* ${this.count} EXISTS\r\n`;
  }

  /** FLAGS, when there are keywords that the client was not told of. */
  newKeywords(): string {
    const all = this.allKeywords;
    if (all.every((one) => this.knownKeywords.has(one))) return '';
    return this.flagsText();
  }

  flagsText(): string {
    const all = this.allKeywords;
    this.knownKeywords = new Set(all);
    return `* FLAGS (${['\\Answered', '\\Flagged', '\\Deleted', '\\Seen', '\\Draft', ...all].join(' ')})\r\n`;
  }

  private tellGone(asVanished: boolean): string {
    const said: string[] = [];
    const vanished: number[] = [];
    const { told } = this;
    let kept = 0;
    this.table.keep((at) => {
      const uid = this.table.uidAt(at);
      if (!this.gone.has(uid)) {
        kept += 1;
        return true;
      }
      this.marked.delete(uid);
      // What came and went again before the client heard of it is not spoken of.
      if (at < told) {
        this.told -= 1;
        vanished.push(uid);
        // Each is told by the number that it has when those before it have gone.
        if (!asVanished) said.push(`* ${kept + 1} EXPUNGE\r\n`);
      }
      return false;
    });
    this.gone.clear();
    if (asVanished && vanished.length > 0) said.push(`* VANISHED ${rangesText(rangesOf(vanished))}\r\n`);
    return said.join('');
  }

  private async readAll(): Promise<void> {
    for (let after = 0; ; ) {
      const marks = this.mailroom.marks(this.folder.id, after, A_PIECE);
      for (const mark of marks) this.table.append(mark);
      if (marks.length < A_PIECE) return;
      after = marks.at(-1)?.uid ?? after;
      await breathe();
    }
  }

  /** Marks that changed, by their UIDs: a message that came, and was marked later, must not come behind one that came after it. */
  private async changedSince(modseq: number): Promise<Mark[]> {
    const all = new Map<number, Mark>();
    for (let since = modseq; ; ) {
      const marks = this.mailroom.changedMarks(this.folder.id, since, A_PIECE);
      for (const mark of marks) all.set(mark.uid, mark);
      const last = marks.at(-1)?.modseq ?? 0;
      if (marks.length < A_PIECE) break;
      // A mod-sequence may belong to more messages than are read at once.
      if (last === since + 1 || marks[0]?.modseq === last) {
        for (const mark of this.mailroom.changedMarks(this.folder.id, since, Number.MAX_SAFE_INTEGER)) all.set(mark.uid, mark);
        break;
      }
      since = last - 1;
      await breathe();
    }
    return [...all.values()].sort((one, other) => one.uid - other.uid);
  }

  private async reread(): Promise<void> {
    const found = new Map<number, Mark>();
    for (let after = 0; ; ) {
      const marks = this.mailroom.marks(this.folder.id, after, A_PIECE);
      for (const mark of marks) found.set(mark.uid, mark);
      if (marks.length < A_PIECE) break;
      after = marks.at(-1)?.uid ?? after;
      await breathe();
    }
    for (let at = 0; at < this.count; at += 1) if (!found.has(this.table.uidAt(at))) this.gone.add(this.table.uidAt(at));
    for (const mark of found.values()) this.note(mark);
  }

  private note(mark: Mark): void {
    const at = this.table.placeFrom(mark.uid);
    if (at === this.count) return this.table.append(mark);
    const before = this.table.at(at);
    if (before.uid !== mark.uid || before.modseq === mark.modseq) return;
    this.table.set(at, mark);
    this.marked.add(mark.uid);
  }
}
