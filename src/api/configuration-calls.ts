import { showVersions } from '../service/overview/versions.ts';
import { type Call, call } from './call.ts';
import { settingChanges } from './configuration-schemas.ts';
import { versions } from './update-schemas.ts';

/** Calls about the configuration file and the program itself. */
export const CONFIGURATION_CALLS: readonly Call[] = [
  call(
    'get',
    '/configuration/changes',
    'What the configuration file says otherwise than the service that runs',
    { result: settingChanges },
    ({ context }) => ({
      changes: context.configuration.changes(),
    }),
  ),
  call(
    'post',
    '/configuration/reload',
    'Take over from the file what can change while the service runs',
    { result: settingChanges },
    async ({ context }) => ({
      changes: await context.configuration.reload(),
    }),
  ),
  call(
    'get',
    '/versions',
    'Which versions of this program have run here, and what the last change brought',
    { result: versions },
    ({ context }) => showVersions(context),
  ),
];
