/** Whether the texts of messages are indexed, beside their usual fields. */
export const migration = `
ALTER TABLE plan ADD COLUMN index_texts INTEGER NOT NULL DEFAULT 0 CHECK (index_texts IN (0, 1));
`;
