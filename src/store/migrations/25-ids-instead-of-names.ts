/** What refers to something that can be removed and come again refers to its number, not to its name. */
export const migration = `
ALTER TABLE recipient ADD COLUMN home_domain_id INTEGER;
ALTER TABLE recipient ADD COLUMN home_mailbox_id INTEGER;
`;
