import { Counter, collectDefaultMetrics, Gauge, Registry } from 'prom-client';
import type { Database } from '../store/database.ts';
import { countQueue } from '../store/queue.ts';

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
    help: 'Recipients by the state they came to, each attempt counted',
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

  constructor(db: Database) {
    collectDefaultMetrics({ register: this.registry });
    new Gauge({
      name: 'tenedor_queue_recipients',
      help: 'Recipients that wait for an attempt',
      registers: [this.registry],
      collect() {
        this.set(countQueue(db));
      },
    });
  }
}
