/** Tables and columns under the names that the code has for them; and the index of words in shelves, which is made again in the background. */
export const migration = `
ALTER TABLE fresh_text RENAME TO unfiled_text;
ALTER TABLE parted_key RENAME TO removed_domain_key;
ALTER TABLE full_choice RENAME TO limit_choice;
ALTER TABLE domain RENAME COLUMN hand_to TO primary_server;
ALTER TABLE domain RENAME COLUMN standby_list TO recipient_list;
ALTER TABLE recipient RENAME COLUMN sender TO onward_sender;
ALTER TABLE recipient RENAME COLUMN told_delay TO delay_told;
ALTER TABLE recipient RENAME COLUMN hold_account TO full_scope;
ALTER TABLE web_session RENAME COLUMN guard TO csrf_token;

DROP TABLE journey_words;
-- Each word begins with the three characters of its shelf (core/journal/words.ts).
CREATE VIRTUAL TABLE journey_words USING fts5(words, content='', contentless_delete=1, detail='none', prefix='6 7 8 9', tokenize="ascii tokenchars '@._+=:/-'");
DELETE FROM setting WHERE name = 'journey-words';
`;
