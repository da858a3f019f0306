import { z } from 'zod';
import { ORDERS } from '../core/vocabulary.ts';
import * as moved from '../service/directory/moved-addresses.ts';
import { type Call, call, done, pages } from './call.ts';
import { movedAddress, newMove } from './moved-schemas.ts';

/** Calls about addresses whose owner has gone elsewhere. */
export const MOVED_CALLS: readonly Call[] = [
  pages(
    '/domains/:domain/moved-addresses',
    'List a domain’s moved addresses',
    movedAddress,
    ORDERS.movedAddresses,
    ({ context, param }, asked) => moved.listMoved(context, param('domain'), asked),
  ),
  call('post', '/moved-addresses', 'Add a moved address', { body: newMove, result: movedAddress }, ({ context, body }) =>
    moved.addMove(context, body),
  ),
  call('delete', '/moved-addresses/:address', 'Remove a moved address', { result: z.object({}) }, ({ context, param }) =>
    done(moved.removeMove(context, param('address'))),
  ),
];
