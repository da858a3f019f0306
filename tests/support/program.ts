import { type ChildProcess, spawn } from 'node:child_process';
import { fileURLToPath } from 'node:url';

export const PROGRAM = fileURLToPath(new URL('../../dist/tenedor.mjs', import.meta.url));

/** Starts the built program and resolves when it says that it is up, with the port of each of its services. */
export async function startProgram(
  file: string,
): Promise<{ child: ChildProcess; output: () => string; port: (service: string) => number }> {
  const child = spawn(process.execPath, [PROGRAM, 'serve', '--config', file], { stdio: ['ignore', 'pipe', 'pipe'] });
  let text = '';
  await new Promise<void>((resolve, reject) => {
    for (const stream of [child.stdout, child.stderr])
      stream?.on('data', (bytes) => {
        text += bytes;
        if (text.includes('service is up')) resolve();
      });
    child.on('exit', () => reject(new Error(text)));
  });
  const port = (service: string): number => Number(new RegExp(`"${service} 127\\.0\\.0\\.1:(\\d+)"`).exec(text)?.[1]);
  return { child, output: () => text, port };
}
