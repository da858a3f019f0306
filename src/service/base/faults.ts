import type { BaseDeps } from './deps.ts';
import { faultText } from './problem.ts';

/**
 * Takes what escaped every owner: it is logged with where it came from and counted, and the service goes on; ending would cost everybody what
 * one connection, timer or promise did wrong. Returns how to stop listening.
 */
export function watchFaults(source: NodeJS.EventEmitter, { log, metrics }: Pick<BaseDeps, 'log' | 'metrics'>): () => void {
  const escaped = (from: 'exception' | 'rejection') => (error: unknown) => {
    metrics.faults.inc({ from });
    log.error({ from, fault: faultText(error) }, 'unexpected error; the operation was ended, the service continues');
  };
  const exception = escaped('exception');
  const rejection = escaped('rejection');
  source.on('uncaughtException', exception);
  source.on('unhandledRejection', rejection);
  return () => {
    source.off('uncaughtException', exception);
    source.off('unhandledRejection', rejection);
  };
}
