import { z } from 'zod';

const change = z
  .object({
    key: z.string().meta({ description: 'Such as dns.resolvers' }),
    from: z.string().nullable().meta({ description: 'The running value, as JSON' }),
    to: z.string().nullable().meta({ description: 'The value in the file' }),
    isLive: z.boolean().meta({ description: 'Whether it applies without a restart' }),
  })
  .meta({ id: 'SettingChange' });
export const settingChanges = z.object({ changes: z.array(change) }).meta({ id: 'SettingChanges' });
export type SettingChanges = z.output<typeof settingChanges>;
