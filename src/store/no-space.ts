/** Whether something failed because the disk is full, has no inodes left, or the quota of the user is used up. */
export function isNoSpace(error: unknown): boolean {
  const { code } = (error ?? {}) as { code?: unknown };
  return code === 'SQLITE_FULL' || code === 'ENOSPC' || code === 'EDQUOT' || (typeof code === 'string' && code.startsWith('SQLITE_IOERR'));
}
