/** A version of the changelog: what it brought, by kind (such as Added, Changed, Fixed). */
export interface Release {
  version: string;
  /** As YYYY-MM-DD; null for one that is not released yet. */
  date: string | null;
  groups: { title: string; items: string[] }[];
}

const HEADING = /^## \[?(\d+\.\d+\.\d+[^\]\s]*)\]?(?:\s+[-–—]\s+(\d{4}-\d{2}-\d{2}))?\s*$/;

/** Reads a changelog: a heading of the second level for each version, one of the third for each kind of change, and a list of lines that begin with a dash. The newest is first. */
export function readChangelog(text: string): Release[] {
  const releases: Release[] = [];
  for (const line of text.split(/\r?\n/)) {
    const heading = HEADING.exec(line);
    if (heading) releases.push({ version: heading[1] ?? '', date: heading[2] ?? null, groups: [] });
    const release = releases.at(-1);
    if (heading || !release) continue;
    const title = /^### (.+)$/.exec(line)?.[1];
    if (title !== undefined) release.groups.push({ title: title.trim(), items: [] });
    const item = /^- (.+)$/.exec(line)?.[1];
    if (item !== undefined) (release.groups.at(-1) ?? open(release)).items.push(item.trim());
    // A line that goes on.
    const more = /^ {2,}(\S.*)$/.exec(line)?.[1];
    const items = release.groups.at(-1)?.items;
    if (more !== undefined && items && items.length > 0) items.push(`${items.pop()} ${more.trim()}`);
  }
  return releases;
}

function open(release: Release): Release['groups'][number] {
  const group = { title: 'Changes', items: [] };
  release.groups.push(group);
  return group;
}
