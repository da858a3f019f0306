import { ChainFault, readChain } from '../../core/certificates/chain.ts';
import { type CertificateFinding, certificateFindings } from '../../core/certificates/findings.ts';
import { Gate } from '../../core/gate.ts';
import type { CertificateDeps } from './deps.ts';
import type { TlsPort } from './doors.ts';
import { listNames, requireName } from './name-rows.ts';

/** What ports show to who asks for a name: those that show the same together. */
export interface ServedRow {
  name: string;
  ports: { service: string; port: number }[];
  /** Names that the certificate is for; empty when nothing was shown. */
  shown: string[];
  until: number | null;
  findings: CertificateFinding[];
  /** Why nothing was shown; null when something was. */
  failure: string | null;
}

const AT_ONCE = 20;

/** Connects to each port that speaks TLS and asks for each name, or for one. Names that do not lead here are left out: nobody comes by them. */
export async function checkServed(context: CertificateDeps, text: string | null): Promise<ServedRow[]> {
  const all = (await listNames(context)).filter((one) => one.verdict !== 'waiting');
  const names = text === null ? all.map((one) => one.name) : [requireName(context, text)];
  const gate = new Gate(AT_ONCE);
  const ports = context.tlsPorts();
  const rows = await Promise.all(names.flatMap((name) => ports.map((one) => gate.run(() => look(context, name, one)))));
  const together = new Map<string, ServedRow>();
  for (const row of rows) {
    const { ports: at, ...rest } = row;
    const same = together.get(JSON.stringify(rest));
    if (same) same.ports.push(...at);
    else together.set(JSON.stringify(rest), row);
  }
  return [...together.values()];
}

async function look({ probe, certificates, clock }: CertificateDeps, name: string, where: TlsPort): Promise<ServedRow> {
  const ports = [{ service: where.service, port: where.port }];
  const probed = await probe(where, name);
  if (probed.kind === 'failed') return { name, ports, shown: [], until: null, findings: [], failure: probed.reason };
  try {
    const chain = readChain(probed.pem, certificates.roots);
    const isRenewed = certificates.for(name)?.source === 'fetched';
    return {
      name,
      ports,
      shown: chain.facts.names,
      until: chain.facts.notAfter,
      findings: certificateFindings(name, chain, { now: clock.now(), isRenewed }),
      failure: null,
    };
  } catch (error) {
    if (!(error instanceof ChainFault)) throw error;
    return { name, ports, shown: [], until: null, findings: [], failure: error.message };
  }
}
