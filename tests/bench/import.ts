import { appendFileSync, mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { Transfer } from '../../src/api/transfer-schemas.ts';
import { mboxEntry } from '../../src/core/transfer/mbox.ts';
import { StandInDns } from '../../src/standins/dns-server.ts';
import { addMessages, findFolderNamed } from '../../src/store/folders.ts';
import { countUse } from '../../src/store/mailbox-use.ts';
import { findMailbox } from '../../src/store/mailboxes.ts';
import { openBare } from '../support/context.ts';
import { type Bench, startBench } from './service.ts';

const MESSAGES = 5000;
const TOGETHER = 100;
const AT = Date.UTC(2026, 10, 27);

/** Texts of 4 KiB that nobody has had yet. */
let round = 0;
function newTexts(): Buffer[] {
  round += 1;
  return Array.from({ length: MESSAGES }, (_one, number) =>
    Buffer.from(`Message-ID: <${round}.${number}@old.example>\r\nSubject: ${number}\r\n\r\n${`${'x'.repeat(76)}\r\n`.repeat(51)}`),
  );
}

let opened: Promise<{ bench: Bench; dns: StandInDns; folder: string }> | null = null;
async function house(): Promise<{ bench: Bench; folder: string }> {
  opened ??= (async () => {
    const dns = new StandInDns();
    return { bench: await startBench(await dns.listen(), ''), dns, folder: mkdtempSync(join(tmpdir(), 'tenedor-bench-')) };
  })();
  return opened;
}
export async function closeImports(): Promise<void> {
  if (!opened) return;
  const { bench, dns, folder } = await opened;
  await bench.stop();
  dns.close();
  rmSync(folder, { recursive: true });
}

/** Messages a second that the service takes from an mbox, from the call to its end. */
export async function importedPerSecond(): Promise<number> {
  const { bench, folder } = await house();
  const file = join(folder, `import-${round}.mbox`);
  for (const text of newTexts()) appendFileSync(file, mboxEntry(text, '', AT));
  const begun = performance.now();
  const { id } = await bench.call<Transfer>('POST', '/transfers/import-files', { path: file, into: 'li@shop.example', folder: 'Old' });
  for (;;) {
    const { state, taken, outcome } = await bench.call<Transfer>('GET', `/transfers/${id}`);
    if (state === 'done' && taken === MESSAGES) break;
    if (state !== 'under-way') throw new Error(outcome);
    await new Promise((done) => setTimeout(done, 10));
  }
  const rate = MESSAGES / ((performance.now() - begun) / 1000);
  rmSync(file);
  return rate;
}

/** Messages a second that the store alone puts into a folder, in commits of the same size. */
export async function appendedPerSecond(): Promise<number> {
  const place = mkdtempSync(join(tmpdir(), 'tenedor-bench-'));
  const { db, texts } = (await openBare({ folder: place })).context;
  const mailboxId = findMailbox(db, 'ana', 'shop.example')?.id ?? 0;
  const folderId = findFolderNamed(db, mailboxId, 'INBOX')?.id ?? 0;
  const all = newTexts();
  const begun = performance.now();
  for (let at = 0; at < all.length; at += TOGETHER) {
    const some = all.slice(at, at + TOGETHER);
    const held = await Promise.all(some.map((text) => texts.hold(text)));
    await db.commit(() => {
      for (const one of held) one.keep();
      const plain = { flags: 0, keywords: '', internalDate: AT, savedAt: AT, prefix: '', outlineId: null, journeyId: null };
      addMessages(
        db,
        folderId,
        some.map((text, place) => ({ ...plain, size: text.length, file: held[place]?.name ?? '' })),
      );
      countUse(db, mailboxId, { bytes: some.reduce((sum, one) => sum + one.length, 0), messages: some.length });
    });
    for (const one of held) one.release(true);
  }
  const rate = MESSAGES / ((performance.now() - begun) / 1000);
  await texts.stop();
  db.close();
  rmSync(place, { recursive: true });
  return rate;
}
