import { z } from 'zod';
import { at } from './base-schemas.ts';

/** Shapes of the versions of this program. */
export const versions = z
  .object({
    version: z.string(),
    databaseVersion: z.int(),
    runs: z
      .array(z.object({ version: z.string(), databaseVersion: z.int(), since: at }))
      .meta({ description: 'Versions that have run on this data, newest first' }),
    brought: z
      .array(
        z.object({
          version: z.string(),
          date: z.string().nullable(),
          groups: z.array(z.object({ title: z.string(), items: z.array(z.string()) })),
        }),
      )
      .meta({ description: 'Changes in the last update' }),
  })
  .meta({ id: 'Versions' });
export type Versions = z.output<typeof versions>;
