import { availableParallelism } from 'node:os';
import { join } from 'node:path';
import { AccessHouse, isAccessPort, MOST_LARGE_TEXTS, MOST_LITERALS } from '../access/access-house.ts';
import type { Followed } from '../core/followed.ts';
import { OwnersGate } from '../core/gate.ts';
import type { AccessListener } from '../core/mailbox/access-port.ts';
import { OctetBudget } from '../core/smtp/octet-budget.ts';
import type { ServedCertificates } from '../net/certificate.ts';
import { PROJECT, VERSION } from '../project.ts';
import type { Config } from '../service/app/config.ts';
import type { ServiceContext } from '../service/app/context.ts';
import { faultText } from '../service/base/problem.ts';
import { SearchIndex } from '../store/search-index.ts';
import { TextReader } from '../store/text-reader.ts';
import { AccessForks } from './access-forks.ts';
import { AccessProcesses } from './access-processes.ts';
import type { AccessSide } from './access-side.ts';

const PROGRAM = join(PROJECT, 'dist/access-process.mjs');

/** So many processes as the configuration says, one less than there are cores by default; null where mail programs are served by this one, or by none. */
export function forkAccess(config: Config): AccessForks | null {
  const isNeeded = config.listener.some((one) => isAccessPort(one.service));
  const processes = isNeeded ? (config.access.processes ?? Math.max(1, availableParallelism() - 1)) : 0;
  return processes > 0 ? new AccessForks(PROGRAM, processes) : null;
}

/** Those who speak to mail programs. */
export function openAccess(
  config: Config,
  context: ServiceContext,
  { certificates, followed, forks }: { certificates: ServedCertificates; followed: Followed; forks: AccessForks | null },
): AccessSide {
  const { desk, log, metrics, host, db, clock } = context;
  const onCount = (service: string, open: number): void => metrics.connections.set({ service }, open);
  const same = { hostName: host.name, version: VERSION, maxMessageBytes: host.maxMessageBytes };
  if (forks)
    return new AccessProcesses({
      forks,
      begin: { ...same, data: config.data, followed: followed.text },
      certificates: () => ({ put: certificates.all, drop: [] }),
      desk,
      log,
      onCount,
    });
  const listener: AccessListener = {
    changed: (folders) => house.changed(folders),
    arrived: (texts) => house.arrived(texts),
    index: (folders) => house.index(folders),
    read: (call, text, at) => house.read(call, text, at),
    end: (session) => house.end(session),
  };
  const house = new AccessHouse(
    { ...same, data: config.data, tls: certificates, followed, log, now: clock.now, onCount },
    {
      db,
      texts: new TextReader(db, config.data),
      index: new SearchIndex(config.data),
      port: desk.open(listener).port,
      literals: new OctetBudget(MOST_LITERALS, () => performance.now()),
      largeTexts: new OwnersGate(MOST_LARGE_TEXTS),
      onFault: (service, client, error) => log.error({ client, fault: faultText(error) }, `${service} conversation ended with an error`),
    },
  );
  return house;
}
