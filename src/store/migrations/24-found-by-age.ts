/** What is looked for, or counted, again and again is found without going through all of it. */
export const migration = `
CREATE INDEX journal_alone ON journal (at) WHERE journey_id IS NULL;
CREATE INDEX known_recipient_at ON known_recipient (at);
CREATE INDEX sign_in_failure_last ON sign_in_failure (last);
CREATE INDEX certificate_name_trouble ON certificate_name (tried_at) WHERE trouble IS NOT NULL;
CREATE INDEX kept_mailbox_there ON kept_mailbox (domain_id) WHERE removed_at IS NULL;
CREATE INDEX trial_awaited ON trial (expires_at) WHERE arrived_at IS NULL;
`;
