import { ImapFlow } from 'imapflow';
import { PASSWORD } from './house.ts';

/** A library that mail programs are made with, signed in. */
export async function openProgram(
  port: number,
  user: string,
  { compress = false, password = PASSWORD }: { compress?: boolean; password?: string } = {},
): Promise<ImapFlow> {
  const program = new ImapFlow({
    host: '127.0.0.1',
    port,
    secure: true,
    auth: { user, pass: password },
    logger: false,
    tls: { rejectUnauthorized: false },
    clientInfo: { name: 'Tide Mail', version: '4' },
    disableCompression: !compress,
  });
  // Whoever loses a connection hears of it by the next command.
  program.on('error', () => {});
  await program.connect();
  return program;
}
