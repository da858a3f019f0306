import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { request } from 'node:http';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import jsQR from 'jsqr';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { RecordSheet } from '../../src/api/dns-schemas.ts';
import type { SettingsSheet } from '../../src/api/mailbox-schemas.ts';
import { CertificateMaker } from '../../src/standins/certificate-maker.ts';
import { HOST, type House, openHouse } from '../support/house.ts';
import { openProgram } from '../support/mail-program.ts';

const folder = mkdtempSync(join(tmpdir(), 'tenedor-settings-'));
let house: House;
let maker: CertificateMaker;
beforeAll(async () => {
  maker = await CertificateMaker.make('Test', { days: 90, now: Date.now });
  writeFileSync(join(folder, 'roots.pem'), maker.rootPem);
  house = await openHouse({ mail: `greet_after_ms = 0\ntrusted_roots = "${join(folder, 'roots.pem')}"` });
  await house.provide('shop.example', ['ana']);
});
afterAll(async () => {
  await house.close();
  rmSync(folder, { recursive: true });
});

const sheetOf = async (address = 'ana@shop.example') => (await house.api.call<SettingsSheet>('GET', `/mailboxes/${address}/settings`)).body;
const give = async (...names: string[]): Promise<void> => {
  const { pem, key } = await maker.give(names, null);
  expect((await house.api.call('POST', '/certificates', { certificate: pem, key })).status).toBe(200);
};

/** The document that a program gets, by the name at which it asks. */
const asked = (path: string, host = '127.0.0.1'): Promise<{ status: number; body: string }> =>
  new Promise((resolve, reject) => {
    request({ port: house.ports.web, path, headers: { host } }, (response) => {
      let body = '';
      response.on('data', (bytes) => {
        body += bytes;
      });
      response.on('end', () => resolve({ status: response.statusCode ?? 0, body }));
    })
      .on('error', reject)
      .end();
  });

/** Reads a QR code as a camera does. */
function readCode(svg: string): string | undefined {
  const size = Number(/viewBox="0 0 (\d+)/.exec(svg)?.[1]);
  const pixels = new Uint8ClampedArray(size * size * 4).fill(255);
  for (const [, x, y, width, height] of svg.matchAll(/M(\d+),(\d+)l(\d+),0 0,(\d+)/g))
    for (let down = 0; down < Number(height); down += 1)
      for (let right = 0; right < Number(width); right += 1)
        pixels.fill(0, ((Number(y) + down) * size + Number(x) + right) * 4, ((Number(y) + down) * size + Number(x) + right) * 4 + 3);
  return jsQR(pixels, size, size)?.data;
}

describe('the settings sheet', () => {
  it('names the host until the domain’s own name has a certificate; then sheet, SRV records and document all name that', async () => {
    const before = await sheetOf();
    expect(new Set(before.settings.map((one) => one.server))).toEqual(new Set([HOST.name]));
    expect(before.warning).toMatch(/Programs will warn of the certificate of mail\.host\.example/);
    await give('mail.shop.example');
    const sheet = await sheetOf();
    const { ports } = house;
    expect(sheet.settings.map(({ protocol, server, port, security }) => [protocol, server, port, security])).toEqual([
      ['IMAP', 'mail.shop.example', 993, 'TLS'],
      ['IMAP', 'mail.shop.example', 143, 'STARTTLS'],
      ['POP3', 'mail.shop.example', 995, 'TLS'],
      ['POP3', 'mail.shop.example', 110, 'STARTTLS'],
      ['SMTP', 'mail.shop.example', 465, 'TLS'],
      ['SMTP', 'mail.shop.example', 587, 'STARTTLS'],
    ]);
    expect(ports.imaps).toBeGreaterThan(0);
    expect(sheet.warning).toBeNull();
    expect(sheet.text).toContain('Reading mail: mail.shop.example\n  IMAP, port 993, TLS\n  or IMAP, port 143, STARTTLS\n');
    expect(readCode(sheet.code)).toBe('ana@shop.example\nIMAP mail.shop.example:993 TLS\nSMTP mail.shop.example:465 TLS');
    // The three come from the same facts.
    const { records } = (await house.api.call<RecordSheet>('GET', '/domains/shop.example/records')).body;
    const announced = records
      .filter((one) => one.type === 'SRV')
      .map((one) => `${one.name.split('.')[0]?.slice(1)} ${one.value.split(' ').slice(2).join(' ')}`);
    expect(announced.sort()).toEqual(sheet.settings.map((one) => `${one.service} ${one.port} ${one.server}`).sort());
    const { body } = await asked('/mail/config-v1.1.xml?emailaddress=ana%40shop.example');
    const told = [
      ...body.matchAll(
        /<(?:incoming|outgoing)Server type="(\w+)">\s*<hostname>(.*)<\/hostname>\s*<port>(\d+)<\/port>\s*<socketType>(\w+)</g,
      ),
    ];
    expect(
      told.map(([, type, server, port, socket]) => [type?.toUpperCase(), server, Number(port), socket === 'SSL' ? 'TLS' : socket]),
    ).toEqual(sheet.settings.map(({ protocol, server, port, security }) => [protocol, server, port, security]));
    expect((await house.api.call('PATCH', '/domains/shop.example', { mailName: 'host' })).status).toBe(200);
    expect((await sheetOf()).settings[0]?.server).toBe(HOST.name);
    await house.api.call('PATCH', '/domains/shop.example', { mailName: 'own' });
  });

  it('is sent to whoever is named, without a password, and nowhere else', async () => {
    const mail = (to: string) => house.api.call('POST', '/mailboxes/ana@shop.example/settings/mail', { to });
    expect((await mail('ana@shop.example')).status).toBe(200);
    const program = await openProgram(house.ports.imaps, 'ana@shop.example');
    await program.mailboxOpen('INBOX');
    await expect.poll(async () => program.status('INBOX', { messages: true })).toMatchObject({ messages: 1 });
    const message = (await program.fetchOne('1', { source: true, envelope: true })) || undefined;
    expect(message?.envelope?.subject).toBe('Settings for ana@shop.example');
    expect(message?.source?.toString()).toContain('Password: the one you were given');
    await program.logout();
    expect((await mail('nobody')).status).toBe(422);
    expect((await mail('nobody@shop.example')).body).toMatchObject({ detail: 'Mail to nobody@shop.example cannot be delivered.' });
    expect((await house.api.call('GET', '/mailboxes/nobody@shop.example/settings')).status).toBe(404);
  });
});

describe('the document that programs ask for by themselves', () => {
  it('is found by address and by name, is the same for every address, and tells of no domain that is elsewhere', async () => {
    await house.provide('twin.example');
    await house.api.call('PUT', '/domains/twin.example/twin', { of: 'shop.example' });
    await house.provide('away.example');
    await house.api.call('PATCH', '/domains/away.example', { role: 'away' });
    const known = await asked('/.well-known/autoconfig/mail/config-v1.1.xml?emailaddress=ana@shop.example');
    expect(known.status).toBe(200);
    expect(await asked('/mail/config-v1.1.xml?emailaddress=nobody@SHOP.example')).toEqual(known);
    expect(await asked('/mail/config-v1.1.xml', 'autoconfig.shop.example')).toEqual(known);
    const twin = await asked('/mail/config-v1.1.xml', 'autoconfig.twin.example:443');
    expect(twin.body).toContain('<domain>twin.example</domain>');
    expect(twin.body).toContain('<hostname>mail.shop.example</hostname>');
    for (const path of [
      '/mail/config-v1.1.xml?emailaddress=ana@away.example',
      '/mail/config-v1.1.xml?emailaddress=ana@nowhere.example',
      '/mail/config-v1.1.xml?emailaddress=%3Cx%3E',
      '/mail/config-v1.1.xml?emailaddress=a@shop.example&emailaddress=b@shop.example',
      `/mail/config-v1.1.xml?emailaddress=${'a'.repeat(3000)}@${'b.'.repeat(2000)}example`,
    ])
      expect((await asked(path)).status, path.slice(0, 80)).toBe(404);
  });
});
