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
    const each = (what: () => void): void => {
      try {
        what();
      } catch (error) {
        log.error({ fault: faultText(error) }, 'a change could not be applied');
      }
    };
    // Who may do what comes first, and none keeps another from hearing of it.
    if (changes.length > 0)
      for (const part of [sessions, desk, stops, limits, keys, brakes, unusual, certificates]) each(() => part.follow(changes));
    each(() => signals.emit('journal'));
  };
}
