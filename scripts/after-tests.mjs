// Waits for the end of a run of the tests, however it ends, and leaves nothing of it behind: neither a process nor a file.
// node scripts/after-tests.mjs PIDS MARK FOLDER: the run is over when one of these processes is.
import { readdirSync, readFileSync, rmSync } from 'node:fs';

const [pids, mark, folder] = process.argv.slice(2);
const run = pids.split(',').map(Number);
const EVERY_MS = 500;

function lives(id) {
  try {
    process.kill(id, 0);
    return true;
  } catch {
    return false;
  }
}

/** Processes that the run has begun: those that carry its mark, or work in its folder. */
function left() {
  const text = (id, file) => {
    try {
      return readFileSync(`/proc/${id}/${file}`, 'latin1');
    } catch {
      // It has ended, or is somebody else's.
      return '';
    }
  };
  return readdirSync('/proc')
    .filter((id) => /^\d+$/.test(id) && Number(id) !== process.pid)
    .filter((id) => text(id, 'environ').split('\0').includes(`TENEDOR_TEST_RUN=${mark}`) || text(id, 'cmdline').includes(folder))
    .map(Number);
}

function look() {
  if (run.every(lives)) return;
  // Who began the tests may be gone, and they not; what began that is not ours to end.
  const all = [...left(), ...run.slice(0, 1).filter(lives)];
  for (const id of all)
    try {
      process.kill(id, 'SIGKILL');
    } catch {
      // It has ended by itself.
    }
  // Those that are killed may have begun others just before.
  if (all.length > 0) return;
  clearInterval(timer);
  rmSync(folder, { recursive: true, force: true });
}

const timer = setInterval(look, EVERY_MS);
