// npm run dev: the demo's service, built anew and started again at each change, and the console with reload in place.
import { spawn } from 'node:child_process';
import { fileURLToPath } from 'node:url';
import { context } from 'esbuild';
import { createServer } from 'vite';
import { serviceBuild } from './build.mjs';

const project = fileURLToPath(new URL('..', import.meta.url));
const SERVICE = 'http://127.0.0.1:8025';
let demo = null;

async function start() {
  if (demo) {
    const gone = new Promise((resolve) => demo.once('exit', resolve));
    demo.kill('SIGTERM');
    await gone;
  }
  demo = spawn(process.execPath, ['dist/tenedor.mjs', 'demo'], { cwd: project, stdio: 'inherit' });
}

const watch = await context({
  ...serviceBuild,
  plugins: [
    {
      name: 'start again',
      setup: (build) => build.onEnd(({ errors }) => (errors.length === 0 ? start() : undefined)),
    },
  ],
});
await watch.watch();
const pages = await createServer({
  configFile: `${project}vite.config.ts`,
  server: { host: '127.0.0.1', port: 5173, proxy: { '/api': SERVICE } },
});
await pages.listen();
console.log('\nThe console, reloaded as you type: http://127.0.0.1:5173 (sign in with the code that the demo prints)\n');

process.on('SIGINT', async () => {
  demo?.kill('SIGTERM');
  await Promise.all([watch.dispose(), pages.close()]);
  process.exit(0);
});
