import { ChainFault, readChain } from '../../core/certificates/chain.ts';
import { type CertificateFinding, certificateFindings } from '../../core/certificates/findings.ts';
import { Gate } from '../../core/gate.ts';
import type { CertificateDeps } from './deps.ts';
import type { TlsPort } from './doors.ts';
import { listNames, requireName } from './name-rows.ts';

/** What a port shows to who asks for a name. */
export interface ServedRow {
  name: string;
  service: string;
  port: number;
  /** Names that the certificate is for; empty when nothing was shown. */
  shown: string[];
  until: number | null;
  findings: CertificateFinding[];
  /** Why nothing was shown; null when something was. */
  failure: string | null;
}

const AT_ONCE = 20;

/** Connects to each port that speaks TLS and asks for each name, or for one. */
export async function checkServed(context: CertificateDeps, text: string | null): Promise<ServedRow[]> {
  const names = text === null ? listNames(context).map((one) => one.name) : [requireName(context, text)];
  const gate = new Gate(AT_ONCE);
  const ports = context.tlsPorts();
  return Promise.all(names.flatMap((name) => ports.map((one) => gate.run(() => look(context, name, one)))));
}

async function look({ probe, certificates, clock }: CertificateDeps, name: string, where: TlsPort): Promise<ServedRow> {
  const { service, port } = where;
  const probed = await probe(where, name);
  if (probed.kind === 'failed') return { name, service, port, shown: [], until: null, findings: [], failure: probed.reason };
  try {
    const chain = readChain(probed.pem, certificates.roots);
    const isRenewed = certificates.for(name)?.source === 'fetched';
    return {
      name,
      service,
      port,
      shown: chain.facts.names,
      until: chain.facts.notAfter,
      findings: certificateFindings(name, chain, { now: clock.now(), isRenewed }),
      failure: null,
    };
  } catch (error) {
    if (!(error instanceof ChainFault)) throw error;
    return { name, service, port, shown: [], until: null, findings: [], failure: error.message };
  }
}
