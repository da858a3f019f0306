import { PassThrough } from 'node:stream';
import { holderOf, type Identity } from '../service/access/accounts.ts';
import type { ServiceContext } from '../service/app/context.ts';
import type { News } from '../service/base/ports.ts';
import { faultText, Problem } from '../service/base/problem.ts';
import { entriesAfter, type LiveFilter } from '../service/journal/journeys.ts';

const HEARTBEAT_MS = 20_000;
/** Readers of streams at once, of one account and of all: each costs something with every commit. */
const MOST_OF_ACCOUNT = 24;
const MOST_OF_ALL = 96;
/** What is written in this time is read together. */
const TOGETHER_MS = 100;
/** Between two pages of the past, so that a long past leaves the machine to others. */
const BREATH_MS = 2;

/** The streams that are open at this moment. */
export class Streams {
  private readonly open = new Map<number, number>();
  private total = 0;

  constructor(private readonly context: ServiceContext) {}

  /** News as they happen, as server-sent events. A listener that does not read loses news rather than filling the memory. */
  news(identity: Identity): PassThrough {
    const { signals } = this.context;
    const stream = this.begin(identity);
    const send = ({ kind, ...data }: News): void => {
      if (!stream.writableNeedDrain) stream.write(`event: ${kind}\ndata: ${JSON.stringify(data)}\n\n`);
    };
    signals.on('news', send);
    stream.on('close', () => signals.off('news', send));
    stream.write(': listening\n\n');
    return stream;
  }

  /**
   * The journal as it is written. Each event's id is its place: who comes back with Last-Event-ID misses nothing. A reader that is slow is
   * waited for, since what it has not had yet is in the database; the past comes page by page.
   */
  journal(identity: Identity, from: number, filter: LiveFilter): PassThrough {
    const { context } = this;
    const stream = this.begin(identity);
    let place = from;
    let timer: NodeJS.Timeout | null = null;
    const look = (ms: number): void => {
      timer ??= setTimeout(() => {
        timer = null;
        try {
          pump();
        } catch (error) {
          context.log.error({ fault: faultText(error) }, 'the live journal could not be read');
          stream.destroy();
        }
      }, ms);
    };
    const pump = (): void => {
      if (stream.destroyed || stream.writableNeedDrain) return;
      const { entries, place: next, more } = entriesAfter(context, place, filter);
      if (next === place) return;
      place = next;
      const text = entries.map((one) => `event: entry\ndata: ${JSON.stringify(one)}\n\n`).join('');
      // The place goes along with the last of a row's entries, so that a row is had whole or not at all.
      stream.write(`${text}id: ${place}\nevent: place\ndata: ${place}\n\n`);
      if (more) look(BREATH_MS);
    };
    const written = (): void => look(TOGETHER_MS);
    stream.on('drain', () => look(0));
    context.signals.on('journal', written);
    stream.on('close', () => {
      if (timer) clearTimeout(timer);
      context.signals.off('journal', written);
    });
    stream.write(`id: ${place}\nevent: place\ndata: ${place}\n\n`);
    look(0);
    return stream;
  }

  /** A stream that ends with the sign-in of whoever asked for it. A comment now and then keeps the line open. */
  private begin(identity: Identity): PassThrough {
    const { accountId } = identity;
    const count = this.open.get(accountId) ?? 0;
    if (count >= MOST_OF_ACCOUNT || this.total >= MOST_OF_ALL)
      throw new Problem(
        'too-many',
        'Too many live streams are open.',
        'Close some pages or clients with live events, and try again.',
        null,
        30,
      );
    this.open.set(accountId, count + 1);
    this.total += 1;
    const stream = new PassThrough();
    const leave = this.context.sessions.begin(holderOf(identity), () => stream.end());
    const heartbeat = setInterval(() => {
      if (!stream.writableNeedDrain) stream.write(': still here\n\n');
    }, HEARTBEAT_MS);
    heartbeat.unref();
    stream.on('error', () => {});
    stream.once('close', () => {
      clearInterval(heartbeat);
      leave();
      this.total -= 1;
      const left = (this.open.get(accountId) ?? 1) - 1;
      if (left > 0) this.open.set(accountId, left);
      else this.open.delete(accountId);
    });
    return stream;
  }
}
