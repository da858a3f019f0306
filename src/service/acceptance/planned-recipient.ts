import type { Destination } from '../../core/routing/recipients.ts';
import type { RecipientTerms } from '../../store/journeys.ts';

/** A destination with what was asked and decided for it. */
export interface PlannedRecipient extends RecipientTerms {
  destination: Destination;
}

/** A destination about which nothing special was asked. */
export const plainRecipient = (destination: Destination): PlannedRecipient => ({
  destination,
  held: null,
  fullScope: null,
  isCharged: false,
  notify: null,
  original: null,
  onwardSender: null,
});
