import { Followed } from '../core/followed.ts';
import { OwnersGate } from '../core/gate.ts';
import type { ToAccess, ToService } from '../core/mailbox/access-messages.ts';
import { OctetBudget } from '../core/smtp/octet-budget.ts';
import { ServedCertificates } from '../net/certificate.ts';
import { ListenError } from '../net/listener.ts';
import { DATABASE_FILE, ReadDatabase } from '../store/read-database.ts';
import { SearchIndex } from '../store/search-index.ts';
import { TextReader } from '../store/text-reader.ts';
import { AccessChannel } from './access-channel.ts';
import { AccessHouse, MOST_LARGE_TEXTS, MOST_LITERALS } from './access-house.ts';

const send = (message: ToService): void => {
  // The service may be gone already: then so are we.
  if (process.connected) process.send?.(message);
};
const channel = new AccessChannel(send);
let certificates: ServedCertificates | null = null;
let house: AccessHouse | null = null;
let db: ReadDatabase | null = null;

function begin({ data, certificates: held, followed, hostName, version, maxMessageBytes }: Extract<ToAccess, { kind: 'begin' }>): void {
  certificates = new ServedCertificates(hostName, Date.now);
  certificates.apply(held);
  const parsed = Followed.parse(followed);
  db = ReadDatabase.open(`${data}/${DATABASE_FILE}`);
  house = new AccessHouse(
    {
      data,
      hostName,
      version,
      maxMessageBytes,
      tls: certificates,
      followed: parsed.kind === 'ok' ? parsed.followed : Followed.none,
      log: { info: (data, text) => send({ kind: 'log', level: 'info', data, text }) },
      now: Date.now,
      onCount: (service, open) => send({ kind: 'count', service, open }),
    },
    {
      db,
      texts: new TextReader(db, data),
      port: channel,
      index: new SearchIndex(data),
      literals: new OctetBudget(MOST_LITERALS, () => performance.now()),
      largeTexts: new OwnersGate(MOST_LARGE_TEXTS),
      onFault: (service, client, error) =>
        send({ kind: 'log', level: 'error', data: { client, fault: faultOf(error) }, text: `${service} conversation ended by a fault` }),
    },
  );
}

function listen({ call, port }: Extract<ToAccess, { kind: 'listen' }>): void {
  house?.listen(port).then(
    (number) => send({ kind: 'listening', call, port: number }),
    (error: unknown) => send({ kind: 'not-listening', call, reason: error instanceof ListenError ? error.message : String(error) }),
  );
}

async function stop(): Promise<void> {
  house?.stopAccepting();
  await house?.quiet();
  db?.close();
  process.exit(0);
}

const faultOf = (error: unknown): string => (error instanceof Error ? (error.stack ?? error.message) : String(error));

/** Runs this process as one that speaks to mail programs: it reads, and asks the service for all that is to be changed. It lives as long as the service does. */
export function runAccessProcess(): void {
  process.on('message', (message: ToAccess) => {
    if (message.kind === 'begin') begin(message);
    else if (message.kind === 'listen') listen(message);
    else if (message.kind === 'answer') channel.answered(message);
    else if (message.kind === 'changed') house?.changed(message.folders);
    else if (message.kind === 'arrived') house?.arrived(message.texts);
    else if (message.kind === 'read') house?.read(message.call, message.text, message.at);
    else if (message.kind === 'index') house?.index(message.folders);
    else if (message.kind === 'end') house?.end(message.session);
    else if (message.kind === 'certificates') certificates?.apply(message.change);
    else if (message.kind === 'connections') house?.connectionsChanged(message.perAddress);
    else stop().catch(() => process.exit(1));
  });
  process.on('disconnect', () => process.exit(0));
  // A terminal sends its signal to all; the service says when to end.
  process.on('SIGINT', () => {});
  process.on('SIGTERM', () => {});
  process.on('SIGHUP', () => {});
  process.on('uncaughtException', (error) =>
    send({ kind: 'log', level: 'error', data: { fault: faultOf(error) }, text: 'a fault escaped in an access process' }),
  );
  process.on('unhandledRejection', (error) =>
    send({ kind: 'log', level: 'error', data: { fault: faultOf(error) }, text: 'a fault escaped in an access process' }),
  );
  send({ kind: 'ready' });
}
