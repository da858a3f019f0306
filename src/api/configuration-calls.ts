import { type Call, call } from './call.ts';
import { settingChanges } from './configuration-schemas.ts';

/** Calls about the configuration file. */
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
];
