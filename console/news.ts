import { harmless } from './harmless.ts';

/** News as the service tells them: the kind, and what it says. */
export interface NewsItem {
  kind: string;
  data: Record<string, unknown>;
}

const KINDS = ['check-step', 'check-run', 'finding-changed'];
const NAME = 'tenedor-news';

type Listener = (news: NewsItem) => void;

/**
 * Hears news over one connection that all tabs of this browser share: browsers have six connections for a host, and each page needs some of its own. One
 * tab holds the connection, chosen by a lock, and passes on what it hears; when it goes, the next one takes over. Where a browser offers no locks
 * (pages without TLS on another machine), each tab has its own, for as long as it is seen.
 */
export class SharedNews {
  private readonly listeners = new Set<Listener>();
  private stop: (() => void) | null = null;

  listen(listener: Listener): () => void {
    this.listeners.add(listener);
    this.stop ??= 'locks' in navigator ? this.share() : this.whileSeen();
    return () => {
      this.listeners.delete(listener);
      if (this.listeners.size > 0) return;
      this.stop?.();
      this.stop = null;
    };
  }

  private tell(news: NewsItem): void {
    for (const listener of this.listeners) listener(news);
  }

  private share(): () => void {
    const channel = new BroadcastChannel(NAME);
    channel.addEventListener('message', (event: MessageEvent<NewsItem>) => this.tell(event.data));
    const ended = new AbortController();
    navigator.locks
      .request(
        NAME,
        { signal: ended.signal },
        () =>
          new Promise<void>((resolve) => {
            const close = open((news) => {
              channel.postMessage(news);
              this.tell(news);
            });
            ended.signal.addEventListener('abort', () => {
              close();
              resolve();
            });
          }),
      )
      // Given up while it waited for its turn.
      .catch(() => {});
    return () => {
      ended.abort();
      channel.close();
    };
  }

  private whileSeen(): () => void {
    let close: (() => void) | null = null;
    const look = (): void => {
      if (document.visibilityState === 'hidden') {
        close?.();
        close = null;
      } else close ??= open((news) => this.tell(news));
    };
    look();
    document.addEventListener('visibilitychange', look);
    return () => {
      document.removeEventListener('visibilitychange', look);
      close?.();
    };
  }
}

function open(tell: Listener): () => void {
  const source = new EventSource('/api/v1/events');
  for (const kind of KINDS)
    source.addEventListener(kind, (event) =>
      tell({ kind, data: JSON.parse((event as MessageEvent).data, harmless) as Record<string, unknown> }),
    );
  return () => source.close();
}
