import type { DomainName } from '../address/domain.ts';
import type { DkimOutcome } from '../dkim/verify.ts';
import type { SpfResult } from '../spf/run.ts';
import { POLICIES, type Policy } from '../vocabulary.ts';
import { isAligned } from './aligned.ts';
import type { DmarcDiscovery } from './record.ts';

export interface DmarcOutcome {
  /** As RFC 7489 §11.2 spells them. */
  result: 'none' | 'pass' | 'fail' | 'temperror' | 'permerror';
  /** The domain in From. */
  domain: string;
  /** What the domain publishes for such mail. */
  policy: Policy;
  /** What is to be done with this message: the policy, if the message failed and was drawn (pct). */
  disposition: Policy;
  /** False when the name servers did not tell the policy: then nobody knows what the domain wants. */
  isPolicyKnown: boolean;
  reason: string;
}

/**
 * Judges a message by the policy that was found for its From domain, from the SPF and DKIM results (RFC 7489 §6.6.2).
 * `draw` is from 0 up to 100, below `pct` for those that the policy is meant for; others get the next milder one (§6.6.4).
 */
export function evaluateDmarc(
  fromDomain: DomainName,
  found: DmarcDiscovery,
  spf: { result: SpfResult; domain: string },
  dkim: readonly Pick<DkimOutcome, 'result' | 'domain'>[],
  draw: number,
): DmarcOutcome {
  const without = (result: DmarcOutcome['result'], reason: string): DmarcOutcome => ({
    result,
    domain: fromDomain,
    policy: 'none',
    disposition: 'none',
    isPolicyKnown: found.kind !== 'failed',
    reason,
  });
  if (found.kind === 'failed') return without('temperror', found.reason);
  if (found.kind === 'invalid') return without('permerror', found.reason);
  if (found.kind === 'none') return without('none', `${fromDomain} publishes no policy`);
  const policy = found.inherited ? found.record.subdomainPolicy : found.record.policy;
  const outcome = (result: DmarcOutcome['result'], reason: string, disposition: Policy = 'none'): DmarcOutcome => ({
    result,
    domain: fromDomain,
    policy,
    disposition,
    isPolicyKnown: true,
    reason,
  });
  const { strictDkim, strictSpf, percent } = found.record;
  const signature = dkim.find((one) => one.result === 'pass' && isAligned(one.domain, fromDomain, strictDkim));
  if (signature) return outcome('pass', `aligned signature of ${signature.domain}`);
  if (spf.result === 'pass' && isAligned(spf.domain, fromDomain, strictSpf)) return outcome('pass', `aligned SPF of ${spf.domain}`);
  // Only what could have aligned leaves the question open.
  const open =
    (spf.result === 'temperror' && isAligned(spf.domain, fromDomain, strictSpf)) ||
    dkim.some((one) => one.result === 'temperror' && isAligned(one.domain, fromDomain, strictDkim));
  if (open) return outcome('temperror', 'a DNS look-up failed that might have given a pass');
  const milder = POLICIES[Math.max(0, POLICIES.indexOf(policy) - 1)] ?? 'none';
  return outcome('fail', failureReason(fromDomain, spf, dkim), draw < percent ? policy : milder);
}

/** Which part failed, and how: it goes into refusals and journeys. */
function failureReason(
  fromDomain: string,
  spf: { result: SpfResult; domain: string },
  dkim: readonly Pick<DkimOutcome, 'result' | 'domain'>[],
): string {
  const spfPart =
    spf.result === 'pass' ? `SPF passes for ${spf.domain}, which is not ${fromDomain}` : `SPF gives ${spf.result} for ${spf.domain}`;
  const passed = dkim.find((one) => one.result === 'pass');
  const [first] = dkim;
  const dkimPart = passed
    ? `the signature is of ${passed.domain}, which is not ${fromDomain}`
    : first
      ? `DKIM gives ${first.result} for ${first.domain}`
      : 'there is no DKIM signature';
  return `${spfPart}, and ${dkimPart}`;
}
