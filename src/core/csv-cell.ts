/** How a cell begins that spreadsheets take for a formula. */
const FORMULA = /^[=+\-@\t\r\uff1d\uff0b\uff0d\uff20]/;

/** A cell that no spreadsheet runs: what strangers wrote stands in it as text. */
export const harmlessCell = <T>(cell: T): T | string => (typeof cell === 'string' && FORMULA.test(cell) ? `'${cell}` : cell);

/** A cell as it was before. */
export const plainCell = (cell: string): string => (cell.startsWith("'") && FORMULA.test(cell.slice(1)) ? cell.slice(1) : cell);
