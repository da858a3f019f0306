import { readFileSync } from 'node:fs';
import { dirname, resolve } from 'node:path';
import { CommandError, EXIT } from '../cli/errors.ts';
import { type Config, ConfigError, parseConfig } from '../service/app/config.ts';
import { reasonOf } from '../store/open-data.ts';

/** The configuration of a file. Throws CommandError. */
export function readConfig(file: string): Config {
  try {
    return parseConfig(readFileSync(file, 'utf8'), file, dirname(resolve(file)));
  } catch (error) {
    const remedy = 'Correct the file; tenedor.example.toml shows every key.';
    if (error instanceof ConfigError) throw new CommandError(EXIT.refused, error.message, remedy);
    throw new CommandError(EXIT.refused, `The configuration file ${file} can’t be read: ${reasonOf(error)}.`, remedy);
  }
}
