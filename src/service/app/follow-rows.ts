import type { RowChange } from '../../store/row-changes.ts';
import { faultText } from '../base/problem.ts';
import type { ServiceContext } from './context.ts';

/**
 * Ties whoever keeps something about rows to what becomes of them: the one way in which a limit at hand, a key, a stop, a count or a session hears
 * that its row has changed or is gone, after the commit.
 */
export function followRows(context: ServiceContext): void {
  const { limits, stops, keys, brakes, unusual, sessions, desk, certificates, signals, log } = context;
  context.db.onCommit = (changes: readonly RowChange[]) => {
    try {
      if (changes.length > 0) for (const part of [limits, stops, keys, brakes, unusual, sessions, desk, certificates]) part.follow(changes);
      signals.emit('journal');
    } catch (error) {
      log.error({ fault: faultText(error) }, 'what a change means could not be followed');
    }
  };
}
