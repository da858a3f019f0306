export type Theme = 'system' | 'light' | 'dark';

const KEY = 'theme';
const NAMES = { light: 'faro', dark: 'faro-night' } as const;

export const keptTheme = (): Theme => {
  const kept = localStorage.getItem(KEY);
  return kept === 'light' || kept === 'dark' ? kept : 'system';
};

/** Puts the chosen theme on the page; `system` leaves it to the browser. */
export function applyTheme(theme: Theme = keptTheme()): void {
  if (theme === 'system') {
    localStorage.removeItem(KEY);
    delete document.documentElement.dataset['theme'];
  } else {
    localStorage.setItem(KEY, theme);
    document.documentElement.dataset['theme'] = NAMES[theme];
  }
}
