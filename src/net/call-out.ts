import type { CallOut } from '../service/notices.ts';

const TIMEOUT_MS = 10_000;

/** Posts one signed call. Redirects are not followed: the signature is for one address. */
export const callOut: CallOut = async (url, headers, body) => {
  try {
    const response = await fetch(url, { method: 'POST', headers, body, redirect: 'manual', signal: AbortSignal.timeout(TIMEOUT_MS) });
    await response.body?.cancel();
    return { status: response.status, reason: response.statusText };
  } catch (error) {
    const cause = (error as Error).cause as NodeJS.ErrnoException | undefined;
    return { status: null, reason: cause?.code ?? cause?.message ?? (error as Error).name };
  }
};
