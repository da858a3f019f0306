import type { DkimOutcome } from '../dkim/verify.ts';
import type { Lookup } from '../records/answers.ts';
import type { SpfOutcome } from '../spf/evaluate.ts';
import { discoverDmarc, organisationalDomain, type Policy } from './record.ts';

export interface DmarcOutcome {
  result: 'none' | 'pass' | 'fail' | 'temperror' | 'permerror';
  /** What the domain asks for when the result is fail. */
  policy: Policy;
  reason: string;
}

const aligned = (one: string, other: string, strict: boolean): boolean =>
  strict ? one === other : organisationalDomain(one) === organisationalDomain(other);

/** Judges a message by its From domain's policy from the SPF and DKIM results (RFC 7489 §6.6.2). */
export async function evaluateDmarc(
  fromDomain: string,
  spf: SpfOutcome & { domain: string },
  dkim: readonly DkimOutcome[],
  lookup: Lookup,
): Promise<DmarcOutcome> {
  const found = await discoverDmarc(fromDomain, lookup);
  if (found.kind === 'failed') return { result: 'temperror', policy: 'none', reason: found.reason };
  if (found.kind === 'invalid') return { result: 'permerror', policy: 'none', reason: found.reason };
  if (found.kind === 'none') return { result: 'none', policy: 'none', reason: `${fromDomain} publishes no policy` };
  const policy = found.inherited ? found.record.subdomainPolicy : found.record.policy;
  const signature = dkim.find((one) => one.result === 'pass' && aligned(one.domain, fromDomain, found.record.strictDkim));
  if (signature) return { result: 'pass', policy, reason: `aligned signature of ${signature.domain}` };
  if (spf.result === 'pass' && aligned(spf.domain, fromDomain, found.record.strictSpf))
    return { result: 'pass', policy, reason: `aligned SPF of ${spf.domain}` };
  if (spf.result === 'temperror' || dkim.some((one) => one.result === 'temperror'))
    return { result: 'temperror', policy, reason: 'a DNS look-up failed' };
  return { result: 'fail', policy, reason: 'neither an aligned signature nor an aligned SPF pass' };
}
