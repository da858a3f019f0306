import { createHmac, timingSafeEqual } from 'node:crypto';

/** How long a bounce of a forwarded message finds its way back. */
export const RETURN_VALID_MS = 14 * 24 * 3_600_000;

const FORM = /^back\.([a-z0-9]{8,16})\.([a-z2-7]{16})$/;
const LETTERS = 'abcdefghijklmnopqrstuvwxyz234567';

/** 80 bits, five to a letter. */
function proof(journeyId: string, domain: string, key: Buffer): string {
  const digest = createHmac('sha256', key).update(`return ${journeyId} ${domain}`).digest();
  let text = '';
  for (let at = 0; at < 80; at += 5) {
    const pair = ((digest[at >> 3] ?? 0) << 8) | (digest[(at >> 3) + 1] ?? 0);
    text += LETTERS[(pair >> (11 - (at & 7))) & 31];
  }
  return text;
}

/**
 * The envelope sender for a message that a domain forwards: an address of that domain, so that SPF of the next server passes for it.
 * It names the journey, whose sender is in the store, and proves that we gave it out; it tells nobody who the sender was.
 */
export const returnAddress = (journeyId: string, domain: string, key: Buffer): string =>
  `back.${journeyId}.${proof(journeyId, domain, key)}@${domain}`;

/** The journey that a local part of that domain leads back to; null when it is no return address, or not one of ours. */
export function readReturnAddress(local: string, domain: string, key: Buffer): string | null {
  const [, journeyId = '', given = ''] = FORM.exec(local) ?? [];
  if (journeyId === '') return null;
  return timingSafeEqual(Buffer.from(given), Buffer.from(proof(journeyId, domain, key))) ? journeyId : null;
}
