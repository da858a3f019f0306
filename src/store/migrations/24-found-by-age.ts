/** What is looked for by its age again and again is found without going through all of it. */
export const migration = `
CREATE INDEX journal_alone ON journal (at) WHERE journey_id IS NULL;
CREATE INDEX known_recipient_at ON known_recipient (at);
CREATE INDEX sign_in_failure_last ON sign_in_failure (last);
CREATE INDEX trial_awaited ON trial (expires_at) WHERE arrived_at IS NULL;
`;
