import { spawn } from 'node:child_process';
import { once } from 'node:events';
import { rmSync } from 'node:fs';
import { join } from 'node:path';
import { PROJECT } from '../../src/project.ts';
import { fill } from './lists.ts';
import { seed } from './service.ts';

const FOLDER = join(PROJECT, '.bench-start');
const STARTS = 7;
const SERVICES = ['smtp', 'submissions', 'imaps', 'web'];

/** The middle of some starts of the built service with so many domains of ten mailboxes each, from the program's call to its being up; ms. */
export async function startTime(domains: number): Promise<number> {
  const text = [
    `data = "data"\n[host]\nname = "mail.host.example"\naddresses = ["192.0.2.25"]\npostmaster = "ana@shop.example"\n`,
    `[dns]\nresolvers = ["127.0.0.1:9"]\n[log]\nlevel = "error"\n[checks]\nevery_minutes = 0\n`,
    ...SERVICES.map((service) => `[[listener]]\nservice = "${service}"\naddress = "127.0.0.1"\nport = 0\n`),
  ].join('\n');
  const file = await seed(FOLDER, text, (context) => fill(context, domains));
  const times: number[] = [];
  for (let start = 0; start < STARTS; start += 1) {
    const begun = performance.now();
    const child = spawn(join(PROJECT, 'tenedor'), ['serve', '--config', file], { stdio: ['ignore', 'ignore', 'pipe'] });
    // The one-time code of the first sign-in is printed when all ports are open.
    await once(child.stderr, 'data');
    times.push(performance.now() - begun);
    child.kill('SIGTERM');
    await once(child, 'exit');
  }
  rmSync(FOLDER, { recursive: true, force: true });
  return times.sort((one, other) => one - other)[STARTS >> 1] ?? 0;
}
