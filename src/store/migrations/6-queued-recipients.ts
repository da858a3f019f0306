/** What waits for its first attempt, newest first: a search for it need not sort all of the queue. */
export const migration = `
CREATE INDEX recipient_queued ON recipient (id) WHERE next_attempt_at IS NOT NULL AND state = 'queued';
`;
