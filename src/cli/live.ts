import type { JournalEntry } from '../api/journey-schemas.ts';
import type { ApiClient } from './client.ts';
import { CommandError, EXIT } from './errors.ts';

const WAIT_MS = 2000;

/** Hears the live journal, entry by entry; comes back by itself to where it was when the line is lost. Ends when `act` returns false. */
export async function follow(
  client: ApiClient,
  query: URLSearchParams,
  act: (entry: JournalEntry) => void,
  lost: () => void,
): Promise<void> {
  let place: string | null = null;
  for (let first = true; ; first = false) {
    try {
      const response = await client.stream(`/journal/live?${query}`, place === null ? {} : { 'last-event-id': place });
      for await (const event of events(response)) {
        if (event.name === 'entry') act(JSON.parse(event.data) as JournalEntry);
        if (event.id !== null) place = event.id;
      }
    } catch (error) {
      // What the service refuses it would refuse again; and at the very first try silence is an answer.
      if (error instanceof CommandError && (first || error.exitCode !== EXIT.unreachable)) throw error;
    }
    lost();
    await new Promise((resolve) => setTimeout(resolve, WAIT_MS));
  }
}

interface StreamEvent {
  name: string;
  data: string;
  id: string | null;
}

/** Server-sent events of a response's body. */
async function* events(response: Response): AsyncGenerator<StreamEvent> {
  if (!response.body) return;
  let text = '';
  for await (const bytes of response.body.pipeThrough(new TextDecoderStream())) {
    text += bytes;
    for (let end = text.indexOf('\n\n'); end >= 0; end = text.indexOf('\n\n')) {
      const event: StreamEvent = { name: 'message', data: '', id: null };
      for (const line of text.slice(0, end).split('\n')) {
        const [, field = '', value = ''] = /^([a-z]+): ?(.*)$/.exec(line) ?? [];
        if (field === 'event') event.name = value;
        else if (field === 'data') event.data += value;
        else if (field === 'id') event.id = value;
      }
      text = text.slice(end + 2);
      yield event;
    }
  }
}
