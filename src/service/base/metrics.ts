import { Counter, collectDefaultMetrics, Gauge, Registry } from 'prom-client';
import type { ServerState } from '../../dns/server-health.ts';
import type { Database } from '../../store/database.ts';
import { countQueue } from '../../store/queue.ts';
import type { LoopWatch } from './loop-watch.ts';
import type { Space } from './space.ts';

/** What is looked at when somebody asks for the metrics. */
export interface Watched {
  resolvers: () => ServerState[];
  /** Octets of messages under way. */
  underWay: () => number;
  loop: Pick<LoopWatch, 'takeWorst' | 'turnsTooLong'>;
  space: Pick<Space, 'free' | 'state'>;
}
const NOTHING: Watched = {
  resolvers: () => [],
  underWay: () => 0,
  loop: { takeWorst: () => 0, turnsTooLong: 0 },
  space: { free: null, state: 'plenty' },
};

/** What `/metrics` shows: totals only, nothing of a single customer. */
export class Metrics {
  readonly registry = new Registry();
  readonly messages = new Counter({
    name: 'tenedor_messages_total',
    help: 'Messages by kind and outcome',
    labelNames: ['kind', 'outcome'] as const,
    registers: [this.registry],
  });
  readonly recipients = new Counter({
    name: 'tenedor_recipients_total',
    help: 'Recipients by resulting state, counted per attempt',
    labelNames: ['state'] as const,
    registers: [this.registry],
  });
  readonly signIns = new Counter({
    name: 'tenedor_sign_ins_total',
    help: 'Mailbox sign-ins by result',
    labelNames: ['result'] as const,
    registers: [this.registry],
  });
  readonly connections = new Gauge({
    name: 'tenedor_connections',
    help: 'Open connections by service',
    labelNames: ['service'] as const,
    registers: [this.registry],
  });

  readonly faults = new Counter({
    name: 'tenedor_faults_total',
    help: 'Unexpected internal errors, by origin',
    labelNames: ['from'] as const,
    registers: [this.registry],
  });

  constructor(db: Database, { resolvers, underWay, loop, space }: Watched = NOTHING) {
    collectDefaultMetrics({ register: this.registry });
    new Gauge({
      name: 'tenedor_queue_recipients',
      help: 'Recipients waiting for an attempt',
      registers: [this.registry],
      collect() {
        this.set(countQueue(db));
      },
    });
    new Gauge({
      name: 'tenedor_message_octets_under_way',
      help: 'Bytes of messages being received',
      registers: [this.registry],
      collect() {
        this.set(underWay());
      },
    });
    new Gauge({
      name: 'tenedor_turn_wait_seconds',
      help: 'Longest event loop delay since the last scrape',
      registers: [this.registry],
      collect() {
        this.set(loop.takeWorst() / 1000);
      },
    });
    new Gauge({
      name: 'tenedor_turns_too_long',
      help: 'Event loop ticks longer than 50 ms with a known cause, since the start',
      registers: [this.registry],
      collect() {
        this.set(loop.turnsTooLong);
      },
    });
    new Gauge({
      name: 'tenedor_disk_free_bytes',
      help: 'Free space on the data disk',
      registers: [this.registry],
      collect() {
        if (space.free !== null) this.set(space.free);
      },
    });
    new Gauge({
      name: 'tenedor_resolver_answers',
      help: 'Whether a resolver answered its latest queries, 1 or 0',
      labelNames: ['resolver'] as const,
      registers: [this.registry],
      collect() {
        for (const one of resolvers()) this.set({ resolver: `${one.address}:${one.port}` }, one.state === 'silent' ? 0 : 1);
      },
    });
    new Gauge({
      name: 'tenedor_resolver_reply_seconds',
      help: 'Average reply time of a resolver',
      labelNames: ['resolver'] as const,
      registers: [this.registry],
      collect() {
        for (const one of resolvers()) if (one.ms !== null) this.set({ resolver: `${one.address}:${one.port}` }, one.ms / 1000);
      },
    });
  }

  /** Shows who reads mail, and through how many processes. */
  watchAccess(load: () => { processes: number; imap: number; pop3: number; underWay: number }): void {
    new Gauge({
      name: 'tenedor_access_processes',
      help: 'IMAP and POP3 processes',
      registers: [this.registry],
      collect() {
        this.set(load().processes);
      },
    });
    new Gauge({
      name: 'tenedor_mailbox_sessions',
      help: 'Signed-in clients by protocol',
      labelNames: ['service'] as const,
      registers: [this.registry],
      collect() {
        const { imap, pop3 } = load();
        this.set({ service: 'imap' }, imap);
        this.set({ service: 'pop3' }, pop3);
      },
    });
    new Gauge({
      name: 'tenedor_mailbox_operations_under_way',
      help: 'Mailbox changes in progress',
      registers: [this.registry],
      collect() {
        this.set(load().underWay);
      },
    });
  }

  /** Shows whether backups succeed, whether what is stored is whole, and when the first certificate ends. */
  watchUpkeep(
    backups: () => { lastGood: { startedAt: number } | null; isOverdue: boolean; lastIntegrity: { isGood: boolean | null } | null },
    firstEnd: () => number | null,
  ): void {
    new Gauge({
      name: 'tenedor_backup_last_success_timestamp_seconds',
      help: 'Time of the last good backup; 0 if there is none',
      registers: [this.registry],
      collect() {
        this.set((backups().lastGood?.startedAt ?? 0) / 1000);
      },
    });
    new Gauge({
      name: 'tenedor_backup_overdue',
      help: 'Whether no backup has succeeded for too long, 1 or 0',
      registers: [this.registry],
      collect() {
        this.set(backups().isOverdue ? 1 : 0);
      },
    });
    new Gauge({
      name: 'tenedor_stored_data_whole',
      help: 'Whether the last verification of stored data passed, 1 or 0; 1 before the first',
      registers: [this.registry],
      collect() {
        this.set(backups().lastIntegrity?.isGood === false ? 0 : 1);
      },
    });
    new Gauge({
      name: 'tenedor_certificate_first_end_timestamp_seconds',
      help: 'Expiry of the served certificate that expires first',
      registers: [this.registry],
      collect() {
        const end = firstEnd();
        if (end !== null) this.set(end / 1000);
      },
    });
  }
}
