import { get as getHttp } from 'node:http';
import { get as getHttps } from 'node:https';
import { bracketed } from '../../core/address/ip-address.ts';
import type { Config } from '../../service/app/config.ts';
import type { ServiceManager } from './service-manager.ts';

const wait = (ms: number): Promise<void> => new Promise((done) => setTimeout(done, ms));
const EVERY_MS = 250;
const ANSWER_MS = 5000;

/** Where the service says how it is; null where the configuration has no port for it. */
export function healthUrl({ listener }: Config): string | null {
  const web = listener.find((one) => one.service === 'web' && one.port !== 0);
  if (!web) return null;
  const host = web.address === '0.0.0.0' ? '127.0.0.1' : web.address === '::' ? '::1' : web.address;
  return `${web.tls ? 'https' : 'http'}://${bracketed(host)}:${web.port}/healthz`;
}

/** The version that answers there; null when none does. Who asks is on the same machine: any certificate will do. */
const answering = (url: string): Promise<string | null> =>
  new Promise((done) => {
    const none = (): void => done(null);
    const request = (url.startsWith('https:') ? getHttps : getHttp)(url, { rejectUnauthorized: false, timeout: ANSWER_MS }, (response) => {
      let text = '';
      response.on('data', (some) => {
        text = (text + String(some)).slice(0, 4096);
      });
      response.on('error', none);
      response.on('end', () => {
        try {
          done((JSON.parse(text) as { version?: string }).version ?? null);
        } catch {
          none();
        }
      });
    });
    request.on('timeout', () => request.destroy());
    request.on('error', none);
  });

/** Waits until that version is up, and watches it for a while. Returns what is wrong; null when it is well. */
export async function watchHealth(
  manager: ServiceManager,
  { url, version, withinMs, watchMs }: { url: string | null; version: string; withinMs: number; watchMs: number },
): Promise<string | null> {
  const isWell = async (): Promise<boolean> => (url === null ? manager.isUp() : (await answering(url)) === version);
  const began = performance.now();
  while (!(await isWell())) {
    if (!(await manager.isUp())) return 'It stopped after its start; see its log.';
    if (performance.now() - began > withinMs) return `It was not up within ${Math.round(withinMs / 1000)} s.`;
    await wait(EVERY_MS);
  }
  for (const up = performance.now(); performance.now() - up < watchMs; await wait(EVERY_MS)) {
    if (!(await manager.isUp())) return 'It stopped soon after it was up; see its log.';
    // A busy moment is no end.
    if (!(await isWell()) && !(await isWell()) && !(await isWell())) return 'It stopped answering soon after it was up.';
  }
  return null;
}
