import { execFile } from 'node:child_process';

/**
 * Tells the system's manager how the service is (sd_notify(3)): Node opens no datagram socket of a path, so systemd's own command says it. Without a
 * manager that wants to know, nothing is said.
 */
export class SystemManager {
  private timer: NodeJS.Timeout | null = null;

  constructor(private readonly env: NodeJS.ProcessEnv) {}

  /** It is up; from now on it says at least twice in the time that is allowed that it is alive. It is said from the loop that does everything: one that hangs says nothing. */
  ready(): void {
    this.say('READY=1');
    const microseconds = Number(this.env['WATCHDOG_USEC'] ?? 0);
    if (microseconds > 0) this.timer = setInterval(() => this.say('WATCHDOG=1'), microseconds / 3000).unref();
  }

  /** It is about to end. */
  stopping(): void {
    if (this.timer) clearInterval(this.timer);
    this.say('STOPPING=1');
  }

  private say(state: string): void {
    if (!this.env['NOTIFY_SOCKET']) return;
    // What fails here is no fault of the service; a manager that waits says so itself.
    execFile('systemd-notify', [state], () => {});
  }
}
