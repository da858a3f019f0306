import { isIpAddress } from '../../core/address/ip-address.ts';
import { parseAddress } from '../../core/address/mailbox-address.ts';
import { evaluateSpf, type SpfOutcome } from '../../core/spf/evaluate.ts';
import { badInput } from '../base/problem.ts';
import { asciiDomain } from '../directory/domains.ts';
import type { DnsDeps } from './deps.ts';

export interface SpfExplanation extends SpfOutcome {
  domain: string;
  clientAddress: string;
  sender: string;
}

/** Evaluates any domain's SPF record for a client as receivers do, with each step; for our own addresses when none is given. */
export async function explainSpf(
  context: DnsDeps,
  name: string,
  input: { ip: string | null; sender: string | null },
): Promise<SpfExplanation[]> {
  const domain = asciiDomain(name, null);
  if (input.ip !== null && !isIpAddress(input.ip))
    throw badInput('ip', `“${input.ip.slice(0, 80)}” is not an address.`, 'Write it like 192.0.2.25 or 2001:db8::25.');
  const sender = input.sender ?? `postmaster@${domain}`;
  if (parseAddress(sender).kind === 'invalid')
    throw badInput('sender', `“${sender.slice(0, 80)}” is not a mail address.`, 'Write it like ana@shop.example.');
  const { source } = context.dns.openViews();
  const explanations: SpfExplanation[] = [];
  for (const clientAddress of input.ip === null ? context.host.addresses : [input.ip])
    explanations.push({
      domain,
      clientAddress,
      sender,
      ...(await evaluateSpf(
        { clientAddress, sender, domain, helo: context.host.name, receiver: context.host.name, at: Math.floor(context.clock.now() / 1000) },
        source,
      )),
    });
  return explanations;
}
