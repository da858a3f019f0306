import { capability, compress, enable, id, logout, namespace, noop } from './commands/any.ts';
import { append, replace, uidReplace } from './commands/appending.ts';
import { fetch, uidFetch } from './commands/fetching.ts';
import { create, remove, rename, subscribe, unsubscribe } from './commands/folders.ts';
import { check, idle } from './commands/idling.ts';
import { list, lsub } from './commands/listing.ts';
import { store, uidStore } from './commands/marking.ts';
import { copy, expunge, move, uidCopy, uidExpunge, uidMove } from './commands/moving.ts';
import { getQuota, getQuotaRoot } from './commands/quota.ts';
import { deleteAcl, getAcl, listRights, myRights, setAcl } from './commands/rights.ts';
import { searchBySequence, searchByUid, sort, thread, uidSort, uidThread } from './commands/searching.ts';
import { close, examine, select, unselect } from './commands/selecting.ts';
import { authenticate, login, startTls } from './commands/signing-in.ts';
import { status } from './commands/status.ts';
import type { Command } from './dialogue.ts';

/** All commands by their names: a new one is a line here, and a place in the file of its family. */
export const COMMANDS: Readonly<Record<string, Command>> = {
  CAPABILITY: capability,
  NOOP: noop,
  LOGOUT: logout,
  ID: id,
  STARTTLS: startTls,
  AUTHENTICATE: authenticate,
  LOGIN: login,
  ENABLE: enable,
  COMPRESS: compress,
  NAMESPACE: namespace,
  SELECT: select,
  EXAMINE: examine,
  CREATE: create,
  DELETE: remove,
  RENAME: rename,
  SUBSCRIBE: subscribe,
  UNSUBSCRIBE: unsubscribe,
  LIST: list,
  LSUB: lsub,
  STATUS: status,
  APPEND: append,
  GETQUOTA: getQuota,
  GETQUOTAROOT: getQuotaRoot,
  SETACL: setAcl,
  DELETEACL: deleteAcl,
  GETACL: getAcl,
  LISTRIGHTS: listRights,
  MYRIGHTS: myRights,
  IDLE: idle,
  CHECK: check,
  CLOSE: close,
  UNSELECT: unselect,
  EXPUNGE: expunge,
  SEARCH: searchBySequence,
  FETCH: fetch,
  STORE: store,
  COPY: copy,
  MOVE: move,
  REPLACE: replace,
  SORT: sort,
  THREAD: thread,
  'UID SEARCH': searchByUid,
  'UID FETCH': uidFetch,
  'UID STORE': uidStore,
  'UID COPY': uidCopy,
  'UID MOVE': uidMove,
  'UID EXPUNGE': uidExpunge,
  'UID REPLACE': uidReplace,
  'UID SORT': uidSort,
  'UID THREAD': uidThread,
};
