import { askedOf, finder, shelfOf, shelved, wordsAsked, wordsOfText } from '../core/journal/words.ts';
import type { RecipientState } from '../core/vocabulary.ts';
import type { Database } from './database.ts';
import type { Journey } from './journeys.ts';
import { keepSetting, readSetting } from './settings.ts';

export interface JourneyQuery {
  /** Words: parts of addresses, subject, Message-ID, client or journey id; all must be there, each of three letters or more from its beginning. */
  search: string;
  domain: string | null;
  state: RecipientState | 'refused' | null;
  client: string | null;
  /** Only from then on, and only before that, in ms. */
  since: number | null;
  before: number | null;
  limit: number;
}

export interface JourneyRow
  extends Omit<
    Journey,
    'file' | 'envelopeId' | 'returnContent' | 'smtputf8' | 'signsFor' | 'isVouched' | 'isDisowned' | 'domainId' | 'mailboxId'
  > {
  /** How many recipients are in each state. */
  states: Partial<Record<RecipientState, number>>;
  /** The newest reply that was not good news. */
  trouble: string | null;
}

const ROW = `SELECT j.id, j.at, j.kind, j.outcome, j.sender, j.recipients, j.subject, j.size, j.client, j.domain, j.mailbox, j.message_id AS messageId,
  (SELECT json_group_object(state, n) FROM (SELECT state, count(*) AS n FROM recipient r WHERE r.journey_id = j.id GROUP BY state)) AS states,
  (SELECT json_extract(e.data, '$.reply') FROM journal e WHERE e.journey_id = j.id AND e.event IN ('refused', 'failed', 'delayed')
   ORDER BY e.seq DESC LIMIT 1) AS trouble FROM journey j WHERE j.rowid = ?`;
type Row = Omit<JourneyRow, 'states'> & { states: string };

interface Found {
  place: number;
  at: number;
}

/**
 * One look at the journal: which of the journeys that were looked at match, how many were looked at, and how far back they go. Of what is newer than
 * `settled` nothing is still to come.
 */
export interface FoundPage {
  found: Found[];
  looked: number;
  to: number;
  settled: number;
}

type Candidate = Found & { hit: number; key: number };

/** Which journeys are in the index of words: all up to this place. The newest are still changing, and are looked at themselves. */
const INDEXED = 'journey-words';
/** A message is as good as settled after that, and few come in that time. */
const SETTLED_MS = 10 * 60_000;
/** So many are looked at in one go; a page of results is found at once where most match. */
const FIRST_LOOK = 100;
const LOOK = 1000;
/** Without a word in the question, only so many of the newest are read through. */
const MOST_READ = 20_000;
const EVERYTHING = Number.MAX_SAFE_INTEGER;
/** A message is dated when it begins, and numbered when it is taken: a large one over a slow line is so much later. */
const LATE_MS = 15 * 60_000;
/** So many characters are taken into the index in one go: a message may have a thousand recipients. */
const MOST_INDEXED = 60_000;
/** So many words with one beginning are asked for one by one. */
const FEW_WORDS = 8;
/** So many are read before it is looked whether that is enough. */
const READ_AT_ONCE = 20;
/** What a journey is found by: also where its recipients' addresses have led. */
const TEXT = `concat_ws(' ', j.id, j.sender, j.recipients, j.subject, j.message_id, j.client, j.domain,
  (SELECT group_concat(r.address, ' ') FROM recipient r WHERE r.journey_id = j.id AND r.address <> j.recipients))`;

/** What is not in the index that leads there is compared row by row. */
const compared = ({ domain, client, state, since, before }: JourneyQuery, by: string): string =>
  [
    domain !== null && by !== 'domain' && 'j.domain = @domain',
    client !== null && by !== 'client' && 'j.client = @client',
    since !== null && 'j.at >= @since',
    before !== null && 'j.at < @before',
    state === 'refused' && "j.outcome = 'refused'",
    state !== null && state !== 'refused' && 'EXISTS (SELECT 1 FROM recipient r WHERE r.journey_id = j.id AND r.state = @state)',
  ]
    .filter((one) => one !== false)
    .join(' AND ') || 'true';

const filtersOf = ({ domain, client, state, since, before }: JourneyQuery) => ({ domain, client, state, since, before });

/**
 * The newest journeys that match, look by look: each is bounded, so that whoever asks can let others have their turn in between, and stop when there
 * are enough. Newest first, as far as the ways that lead there keep that order.
 */
export function* findJourneys(db: Database, query: JourneyQuery): Generator<FoundPage> {
  if (query.search.trim() === '') yield* bySource(db, query);
  else yield* byWords(db, query);
}

/** So many recipients of a message are named in a list. */
const NAMED = 20;
export const named = (recipients: string): string => {
  const all = recipients.split(', ');
  return all.length <= NAMED ? recipients : `${all.slice(0, NAMED).join(', ')} and ${(all.length - NAMED).toLocaleString('en')} more`;
};

/** What was found, each once, newest first. */
export const journeysFound = (found: readonly Found[]): Found[] =>
  [...new Map(found.map((one) => [one.place, one])).values()].sort((one, other) => other.at - one.at || other.place - one.place);

/** What is shown of journeys that were found: so many, and what came in the same millisecond as the last of them. */
export const journeyRows = (db: Database, found: readonly Found[], limit: number): JourneyRow[] =>
  journeysFound(found)
    .filter((one, at, all) => at < limit || one.at === all[limit - 1]?.at)
    .flatMap(({ place }) => db.all<Row>(ROW, place))
    .map((row) => ({ ...row, recipients: named(row.recipients), states: JSON.parse(row.states) }));

/** Goes through candidates from the largest key down, a look at a time. */
function* looks(
  first: number,
  look: (below: number, most: number) => Candidate[],
  { later = LOOK, inTime = false }: { later?: number; inTime?: boolean } = {},
): Generator<FoundPage> {
  for (let below = first, most = FIRST_LOOK; ; most = later) {
    const candidates = look(below, most);
    const last = candidates.at(-1);
    const to = last?.at ?? 0;
    yield { found: candidates.filter((one) => one.hit === 1), looked: candidates.length, to, settled: to + (inTime ? 0 : LATE_MS) };
    if (!last || candidates.length < most) return;
    below = last.key;
  }
}

function* bySource(db: Database, query: JourneyQuery): Generator<FoundPage> {
  const { state, domain, client, since } = query;
  const filters = filtersOf(query);
  // Messages in trouble are few among all, and have indexes of their own.
  if (state === 'delayed' || state === 'failed') {
    const sql = `SELECT t.id AS key, j.rowid AS place, j.at, ${compared({ ...query, state: null }, '')} AS hit
      FROM recipient t JOIN journey j ON j.id = t.journey_id WHERE t.state = @state AND t.state IN ('delayed', 'failed')
      ${domain === null ? '' : 'AND t.sender_domain = @domain'} AND t.id < @below ORDER BY t.id DESC LIMIT @most`;
    return yield* looks(EVERYTHING, (below, most) => db.all<Candidate>(sql, { ...filters, below, most }));
  }
  if (state === 'queued') {
    const sql = `SELECT t.id AS key, j.rowid AS place, j.at, ${compared({ ...query, state: null }, '')} AS hit
      FROM recipient t JOIN journey j ON j.id = t.journey_id WHERE t.next_attempt_at IS NOT NULL AND t.state = 'queued' AND t.id < @below
      ORDER BY t.id DESC LIMIT @most`;
    return yield* looks(EVERYTHING, (below, most) => db.all<Candidate>(sql, { ...filters, below, most }));
  }
  const by = domain !== null ? 'domain' : client !== null ? 'client' : '';
  const within = by === '' ? (state === 'refused' ? "j.outcome = 'refused' AND" : '') : `j.${by} = @${by} AND`;
  const sql = `SELECT j.at AS key, j.rowid AS place, j.at, ${compared(query, by)} AS hit FROM journey j
    WHERE ${within} (j.at, j.rowid) < (@below, @place) ORDER BY j.at DESC, j.rowid DESC LIMIT @most`;
  let place = EVERYTHING;
  const look = (below: number, most: number): Candidate[] => {
    const candidates = db.all<Candidate>(sql, { ...filters, below, place, most });
    place = candidates.at(-1)?.place ?? 0;
    // Before the beginning there is nothing to look for.
    return since === null ? candidates : candidates.filter((one) => one.at >= since);
  };
  yield* looks(query.before ?? EVERYTHING, look, { inTime: true });
}

/** Words of the index that begin so; null where they are more than a few. */
function begunBy(db: Database, beginning: string): string[] | null {
  const found: string[] = [];
  // As the index has it: half of a character, where a long word was cut, is written as another one.
  const start = Buffer.from(beginning).toString();
  for (let from = start; ; ) {
    const word = db.one<{ word: string }>('SELECT term AS word FROM journey_word WHERE term >= ? LIMIT 1', from)?.word;
    if (!word?.startsWith(start)) return found;
    if (found.length === FEW_WORDS) return null;
    found.push(word);
    // The vocabulary is in order, and no word has such a character.
    from = `${word}\u0001`;
  }
}

function* byWords(db: Database, query: JourneyQuery): Generator<FoundPage> {
  const filters = filtersOf(query);
  const search = query.search.trim();
  const asked = wordsAsked(search);
  const indexed = readSetting<number>(db, INDEXED) ?? 0;
  // Without a single letter or digit there is no word: only looking at everything would help, so the newest are looked at.
  const from = asked === null ? Math.max(0, indexed - MOST_READ) : indexed;
  const answers = finder(search) ?? ((text: string) => text.toLowerCase().includes(search.toLowerCase()));
  type Read = Candidate & { text: string };
  const compare = ({ text, ...one }: Read): Candidate => ({ ...one, hit: one.hit === 1 && answers(text) ? 1 : 0 });
  const newest = `SELECT j.rowid AS key, j.rowid AS place, j.at, ${compared(query, '')} AS hit, ${TEXT} AS text
    FROM journey j WHERE j.rowid > @from AND j.rowid < @below ORDER BY j.rowid DESC LIMIT @most`;
  yield* looks(EVERYTHING, (below, most) => db.all<Read>(newest, { ...filters, from, below, most }).map(compare), { later: FIRST_LOOK });
  if (asked === null) return;
  // Its domain and client are among the words of a message: those few rows are all that is looked at.
  const words = [asked, ...[query.domain, query.client].map((one) => one && wordsAsked(one))].flatMap((one) => (one ? one.words : []));
  const older = `SELECT w.rowid AS key, j.rowid AS place, j.at, ${compared(query, '')} AS hit${asked.exact ? '' : `, ${TEXT} AS text`}
    FROM journey_words w JOIN journey j ON j.rowid = w.rowid
    WHERE journey_words MATCH @words AND w.rowid < @below ORDER BY w.rowid DESC LIMIT @most`;
  const oldest = shelfOf(db.one<{ place: number | null }>('SELECT min(rowid) AS place FROM journey')?.place ?? 0);
  let to = Number.MAX_SAFE_INTEGER;
  for (let shelf = shelfOf(indexed); shelf >= oldest; shelf -= 1) {
    const matched = askedOf(words, shelf, (beginning) => begunBy(db, beginning));
    const look = (below: number, most: number): Candidate[] => {
      const rows = matched === null ? [] : db.all<Read>(older, { ...filters, words: matched, below, most });
      return asked.exact ? rows : rows.map(compare);
    };
    for (const page of looks(EVERYTHING, look, asked.exact ? {} : { later: FIRST_LOOK })) {
      // A shelf where nothing matches says nothing of how far back it goes.
      if (page.looked > 0) to = page.to;
      yield page.looked > 0 ? page : { ...page, to, settled: Number.MAX_SAFE_INTEGER };
    }
  }
}

/**
 * Takes settled journeys into the index of words, some at a time; returns how many, or `most` when there is more to do at once. The index goes up to
 * one place without a gap: a message of long ago that came before one of just now waits for it.
 */
export function indexJourneys(db: Database, now: number, most: number): number {
  let last = readSetting<number>(db, INDEXED) ?? 0;
  let count = 0;
  for (let length = 0; count < most && length < MOST_INDEXED; ) {
    const wanted = Math.min(READ_AT_ONCE, most - count);
    const read = db.all<{ place: number; at: number; text: string }>(
      `SELECT j.rowid AS place, j.at, ${TEXT} AS text FROM journey j WHERE j.rowid > ? ORDER BY j.rowid LIMIT ?`,
      last,
      wanted,
    );
    const unsettled = read.findIndex(({ at }) => at >= now - SETTLED_MS);
    const rows = unsettled < 0 ? read : read.slice(0, unsettled);
    for (const { place, text } of rows) {
      db.run('INSERT OR REPLACE INTO journey_words (rowid, words) VALUES (?, ?)', place, shelved(wordsOfText(text), shelfOf(place)));
      last = place;
      length += text.length;
    }
    count += rows.length;
    if (rows.length < wanted) {
      keepSetting(db, INDEXED, last);
      return count;
    }
  }
  keepSetting(db, INDEXED, last);
  return most;
}

/**
 * Takes away what was journalled before a time: journeys of which nothing waits, with their recipients and entries, and other entries.
 * Some at a time; returns how many rows went. The newest rows stay whatever their age: their numbers are where new ones go on.
 */
export function prune(db: Database, before: number, most: number): number {
  const old = db.all<{ place: number; id: string }>(
    `SELECT j.rowid AS place, j.id FROM journey j WHERE j.at < ?
       AND NOT EXISTS (SELECT 1 FROM recipient r WHERE r.journey_id = j.id AND r.next_attempt_at IS NOT NULL)
       AND j.rowid < (SELECT max(rowid) FROM journey) AND j.id <> coalesce((SELECT journey_id FROM recipient ORDER BY id DESC LIMIT 1), '')
       ORDER BY j.at LIMIT ?`,
    before,
    most,
  );
  let gone = 0;
  for (const { place, id } of old) {
    gone += db.run('DELETE FROM journal WHERE journey_id = ?', id).changes;
    db.run('DELETE FROM journey_words WHERE rowid = ?', place);
    gone += db.run('DELETE FROM journey WHERE id = ?', id).changes;
  }
  gone += db.run(
    'DELETE FROM journal WHERE seq IN (SELECT seq FROM journal WHERE at < ? AND journey_id IS NULL ORDER BY at LIMIT ?) AND seq < (SELECT max(seq) FROM journal)',
    before,
    most,
  ).changes;
  return gone;
}

/** The time of the oldest entry that is among the newest `most`; null when there are not more than those. */
export function timeOfMost(db: Database, most: number): number | null {
  const range = db.one<{ first: number | null; last: number | null }>(
    // Both in one go would read all of it.
    'SELECT (SELECT min(seq) FROM journal) AS first, (SELECT max(seq) FROM journal) AS last',
  );
  if (!range?.last || range.first === null || range.last - range.first < most) return null;
  return db.one<{ at: number }>('SELECT at FROM journal WHERE seq >= ? ORDER BY seq LIMIT 1', range.last - most + 1)?.at ?? null;
}
