import { z } from 'zod';

const change = z
  .object({
    key: z.string().meta({ description: 'Such as dns.resolvers' }),
    from: z.string().nullable().meta({ description: 'As it runs, as JSON' }),
    to: z.string().nullable().meta({ description: 'As the file says' }),
    isLive: z.boolean().meta({ description: 'Whether it is taken over while the service runs' }),
  })
  .meta({ id: 'SettingChange' });
export const settingChanges = z.object({ changes: z.array(change) }).meta({ id: 'SettingChanges' });
export type SettingChanges = z.output<typeof settingChanges>;
