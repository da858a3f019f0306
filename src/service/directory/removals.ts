import { removeAlias, setTargets } from '../../store/mailboxes.ts';
import type { DirectoryDeps } from './deps.ts';

export interface Removal {
  /** What goes with it, in words, one thing a line. */
  goes: string[];
  stays: string[];
}

type TargetedAlias = { id: number; address: string; targets: string[] };

/** Says what an alias loses when some of its targets go. */
export function aliasLoss(alias: TargetedAlias, goes: (target: string) => boolean): string {
  return alias.targets.every(goes)
    ? `the alias ${alias.address}, which leads nowhere else`
    : `the alias ${alias.address} loses ${alias.targets.filter(goes).join(', ')}`;
}

/** Takes targets away from aliases, and aliases away that have none left, so that nothing leads nowhere. */
export function dropTargets({ db }: DirectoryDeps, aliases: readonly TargetedAlias[], goes: (target: string) => boolean): void {
  for (const alias of aliases) {
    const left = alias.targets.filter((target) => !goes(target));
    if (left.length === 0) removeAlias(db, alias.id);
    else setTargets(db, alias.id, left);
  }
}

export const count = (number: number, one: string, more = `${one}s`): string => `${number} ${number === 1 ? one : more}`;
