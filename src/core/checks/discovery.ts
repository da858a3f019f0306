import { type Lookup, lookUp } from '../records/answers.ts';
import { CLIENT_SERVICES, type ClientService, discoveryRecords, type HostFacts } from '../records/sheet.ts';
import { type Finding, type FindingDraft, type SubjectFacts, settledFindings, unanswered } from './finding.ts';

/** Do the records by which mail programs find a server (RFC 6186) lead to this host, at ports that are open? They are optional. */
export async function checkDiscovery(domain: string, host: HostFacts, lookup: Lookup): Promise<Finding[]> {
  const wanted = discoveryRecords(domain, host);
  const facts: SubjectFacts = { subject: 'discovery', name: domain, expected: wanted.map((one) => `${one.name} ${one.value}`), seen: [] };
  const astray: string[] = [];
  const closed: string[] = [];
  for (const service of Object.keys(CLIENT_SERVICES) as ClientService[]) {
    const name = `_${service}._tcp.${domain}`;
    const answer = await lookUp(lookup, name, 'SRV');
    if (answer.kind === 'failed') return unanswered(facts, answer.reason, name);
    const open = host.services?.[service];
    for (const value of answer.kind === 'found' ? answer.values : []) {
      facts.seen.push(`${name} ${value}`);
      const [, , port, target = ''] = value.split(' ');
      // RFC 2782: a target of “.” says that the service is not offered.
      if (target === '' || target === '.') {
        if (open !== undefined) closed.push(`${name} declares it not offered`);
      } else if (target !== host.name && target !== host.mailServer) astray.push(`${name} points to ${target}`);
      else if (String(open) !== port) closed.push(`${name} points to port ${port}`);
    }
  }
  const faults: FindingDraft[] = [];
  const fault = (code: FindingDraft['code'], headline: string): void => {
    faults.push({
      code,
      verdict: 'wrong',
      headline,
      remedy: 'Replace the SRV records with those below. They are optional, but wrong ones are worse than none.',
      publish: wanted,
    });
  };
  if (astray.length > 0) fault('discovery-elsewhere', `${astray.join('; ')}, and not to ${host.mailServer ?? host.name}.`);
  if (closed.length > 0) fault('discovery-closed', `${closed.join('; ')}; open here: ${openPorts(host)}.`);
  if (facts.seen.length === 0 && faults.length === 0)
    return settledFindings(facts, [], {
      code: 'discovery-none',
      verdict: 'good',
      headline: 'No SRV records for clients are published; they are optional.',
    });
  return settledFindings(facts, faults, {
    code: 'discovery-good',
    verdict: 'good',
    headline: 'The SRV records point clients to open ports of this host.',
    expected: facts.seen,
  });
}

function openPorts({ services = {} }: HostFacts): string {
  const open = Object.entries(services).map(([service, port]) => `${service} at ${port}`);
  return open.length === 0 ? 'none of them' : open.join(', ');
}
