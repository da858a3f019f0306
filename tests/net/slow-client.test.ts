import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { expect, it } from 'vitest';
import { REPLIES } from '../../src/core/smtp/replies.ts';
import { loadCertificate } from '../../src/net/certificate.ts';
import { Listener } from '../../src/net/listener.ts';
import { serveSmtp } from '../../src/net/smtp-server.ts';
import { Talk } from '../support/talk.ts';

it('a client that drips octets and gets nowhere is sent away; one that gets on is not', async () => {
  const folder = mkdtempSync(join(tmpdir(), 'tenedor-slow-'));
  const { secureContext } = await loadCertificate(null, folder, 'mail.host.example');
  let closed = 0;
  const listener = new Listener(
    { address: '127.0.0.1', port: 0, proxy: false, implicitTls: false, tls: { secureContext }, mostPerAddress: () => 10 },
    (connection) =>
      serveSmtp(
        connection,
        { hostName: 'mail.host.example', service: 'inbound', maxMessageBytes: 1e6, tls: { secureContext }, progressMs: 1000 },
        {
          decide: async () => ({ accepted: true, reply: REPLIES.ok }),
          abandon: () => {},
          closed: () => {
            closed += 1;
          },
          fault: () => {},
        },
      ),
    () => {},
  );
  const port = await listener.listen();
  const drip = await Talk.to(port);
  await drip.say(null);
  const dripping = setInterval(() => drip.write('E'), 20);
  expect(await drip.closed()).toMatch(/^421 4\.4\.2 mail\.host\.example closes the connection/);
  clearInterval(dripping);
  const steady = await Talk.to(port);
  await steady.say(null);
  await steady.say('EHLO x.example');
  // One step after the other, each within its time, for longer than that time altogether.
  for (let step = 0; step < 4; step += 1) {
    const begun = performance.now();
    await expect.poll(() => performance.now() - begun, { interval: 20 }).toBeGreaterThan(400);
    expect(await steady.say('NOOP')).toMatch(/^250/);
  }
  steady.end();
  await expect.poll(() => closed).toBe(2);
  listener.stopAccepting();
  rmSync(folder, { recursive: true });
});
