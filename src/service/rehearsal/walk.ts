import type { RehearsalOrder } from '../../core/rehearsal/order.ts';
import type { RehearsalWay } from '../../core/rehearsal/rehearsal.ts';
import type { RehearsalWorld } from './rehearsal-world.ts';
import { walkReceive, walkRelay } from './walk-receive.ts';
import { walkSignIn } from './walk-signin.ts';

/** Takes the steps of an order. */
export function walk(world: RehearsalWorld, order: RehearsalOrder): Promise<RehearsalWay[]> {
  switch (order.kind) {
    case 'signin':
      return walkSignIn(world, order);
    case 'receive':
      return walkReceive(world, order);
    case 'relay':
      return walkRelay(world, order);
  }
}
