// Waits for the end of a run of the tests, however it ends, and leaves nothing of it behind: neither a process nor a file.
// node scripts/after-tests.mjs PID MARK FOLDER
import { readdirSync, readFileSync, rmSync } from 'node:fs';

const [pid, mark, folder] = process.argv.slice(2);
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
  if (lives(Number(pid))) return;
  const all = left();
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
