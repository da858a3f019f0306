/** Which mail an outlet is for; no destinations mean any. */
export interface OutletMatch {
  position: number;
  isOn: boolean;
  senders: { isAny: boolean; customers: readonly string[]; domains: readonly string[] };
  /** `northpost.example`, `*.northpost.example` for names below it. */
  destinations: readonly string[];
}

export interface OutletQuestion {
  customer: string | null;
  senderDomain: string | null;
  destination: string;
}

/** Whether a domain name fits a pattern: itself, or `*.` and what it lies below. */
export const fitsPattern = (name: string, pattern: string): boolean =>
  pattern.startsWith('*.') ? name.endsWith(pattern.slice(1)) : name === pattern;

/** The outlets for a message, in the order in which they are to be tried. */
export function outletsFor<Outlet extends OutletMatch>(
  outlets: readonly Outlet[],
  { customer, senderDomain, destination }: OutletQuestion,
): Outlet[] {
  return outlets
    .filter(({ isOn, senders, destinations }) => {
      const isSender =
        senders.isAny ||
        (customer !== null && senders.customers.includes(customer)) ||
        (senderDomain !== null && senders.domains.includes(senderDomain));
      return isOn && isSender && (destinations.length === 0 || destinations.some((one) => fitsPattern(destination, one)));
    })
    .sort((one, other) => one.position - other.position);
}
