import type { HostFacts } from '../core/records/sheet.ts';
import { listOutlets } from '../store/outlets.ts';
import type { ServiceContext } from './context.ts';

/** The host as one domain's records must name it: with the includes of the outlets through which its mail may leave. */
export function hostFor({ db, host }: ServiceContext, domain: { name: string; customer: string }): HostFacts {
  const includes = listOutlets(db).flatMap(({ isOn, spfInclude, senders }) => {
    const anybody = senders.customers.length === 0 && senders.domains.length === 0;
    const carries = isOn && (anybody || senders.customers.includes(domain.customer) || senders.domains.includes(domain.name));
    return carries && spfInclude !== null ? [spfInclude] : [];
  });
  return includes.length === 0 ? host : { ...host, outletIncludes: [...new Set([...(host.outletIncludes ?? []), ...includes])] };
}
