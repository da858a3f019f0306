import { showVersions } from '../service/overview/versions.ts';
import { type Call, call } from './call.ts';
import { settingChanges } from './configuration-schemas.ts';
import { versions } from './update-schemas.ts';

/** Calls about the configuration file and the program itself. */
export const CONFIGURATION_CALLS: readonly Call[] = [
  call(
    'get',
    '/configuration/changes',
    'Differences between the configuration file and the running service',
    { result: settingChanges },
    ({ context }) => ({
      changes: context.configuration.changes(),
    }),
  ),
  call(
    'post',
    '/configuration/reload',
    'Apply settings from the file that need no restart',
    { result: settingChanges },
    async ({ context }) => ({
      changes: await context.configuration.reload(),
    }),
  ),
  call('get', '/versions', 'Versions that have run here, and the latest changes', { result: versions }, ({ context }) =>
    showVersions(context),
  ),
];
