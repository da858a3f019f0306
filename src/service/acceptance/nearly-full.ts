import { domainSide } from '../../core/address/sides.ts';
import type { JourneyStep } from '../../store/journeys.ts';
import type { NearlyFull } from '../../store/mailbox-use.ts';

/** What the journal says of a mailbox, or a domain, that is nearly full. */
export const nearlyFullStep = ({ kind, name }: NearlyFull, at: number): JourneyStep =>
  kind === 'mailbox' ? { at, event: 'mailbox-nearly-full', data: { address: name } } : { at, event: 'domain-nearly-full', data: {} };

/** In its domain's journal. */
export const nearlyFullEntry = (what: NearlyFull, at: number) => ({
  journeyId: null,
  domain: what.kind === 'mailbox' ? domainSide(what.name) : what.name,
  ...nearlyFullStep(what, at),
});
