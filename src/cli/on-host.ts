import { accessSync, constants } from 'node:fs';
import { Option } from 'commander';
import type { BackupState } from '../api/backup-schemas.ts';
import type { Overview } from '../api/schemas.ts';
import type { ApiClient } from './client.ts';
import { CommandError, EXIT } from './errors.ts';

/** What a host says of itself by its data directory. */
export interface HostStatus extends Pick<Overview, 'host' | 'version' | 'counts' | 'attention'> {
  data: string;
  /** Whether a service runs on the data directory. */
  isRunning: boolean;
  /** Of the journal: when something was last written down. */
  lastEntryAt: number | null;
  freeBytes: number | null;
}

/** What the program can find out without the service, on the service's own machine, by its configuration. */
export interface OnHost {
  /** Where the configuration usually is. */
  config: string;
  status(config: string): Promise<HostStatus>;
  backupState(config: string): Promise<HostBackups>;
}

export interface HostBackups extends BackupState {
  host: string;
  isRunning: boolean;
}

/** For commands that can do without the service. */
export const configOption = (): Option =>
  new Option('--config <file>', 'read the data directory named in this configuration, on the server itself; works without the service');

/**
 * Asks the service; where nobody is signed in here, or the service of this machine does not answer, asks the machine itself. With `config` it asks only
 * that.
 */
export async function serviceOrHost<FromService, FromHost extends { host: string }>(
  client: ApiClient,
  onHost: Pick<OnHost, 'config'>,
  config: string | undefined,
  ask: { service: () => Promise<FromService>; host: (config: string) => Promise<FromHost> },
): Promise<{ service: FromService; host?: undefined } | { host: FromHost; service?: undefined }> {
  if (config !== undefined) return { host: await ask.host(config) };
  try {
    return { service: await ask.service() };
  } catch (error) {
    const isSilent = error instanceof CommandError && error.exitCode === EXIT.unreachable;
    const place = client.place();
    if (!(isSilent || place === null) || client.isElsewhere || !isReadable(onHost.config)) throw error;
    const host = await ask.host(onHost.config);
    // Another machine's silence says nothing of this one.
    if (place !== null && !isHere(place.url, host.host)) throw error;
    return { host };
  }
}

function isHere(url: string, host: string): boolean {
  const { hostname } = new URL(url);
  return hostname === host || hostname === 'localhost' || hostname === '[::1]' || hostname.startsWith('127.');
}

function isReadable(file: string): boolean {
  try {
    accessSync(file, constants.R_OK);
    return true;
  } catch {
    return false;
  }
}
