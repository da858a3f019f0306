import type { Versions as VersionsShown } from '../../src/api/update-schemas.ts';
import { useCall } from '../api.ts';
import { Answer, Panel, Table } from './blocks.tsx';
import { CopyButton } from './copy.tsx';
import { fullTime } from './words.ts';

const COMMANDS = ['tenedor update check PACKAGE', 'tenedor update apply PACKAGE', 'tenedor update back'] as const;

/** Which version runs, what it brought, and how the next one comes. */
export function Versions() {
  const query = useCall<VersionsShown>('/versions');
  return (
    <Answer query={query}>
      {({ version, databaseVersion, runs, brought }) => (
        <>
          <Panel title={`Tenedor ${version}`} aside={<span className="soft text-sm">database version {databaseVersion}</span>}>
            <p className="soft mb-3 text-sm">
              Apply a new version on the server, as root. It is verified and tried on a copy of the database, after a backup, and rolled
              back automatically if the service does not start.
            </p>
            <ul className="mb-1 space-y-1">
              {COMMANDS.map((one) => (
                <li key={one} className="flex items-center gap-2">
                  <code className="record-text">{one}</code> <CopyButton text={one} what={one} />
                </li>
              ))}
            </ul>
          </Panel>
          {brought.map((release) => (
            <div key={release.version} className="mt-4">
              <Panel
                title={`What ${release.version} brought`}
                aside={release.date === null ? null : <span className="soft text-sm">{release.date}</span>}
              >
                {release.groups.map(({ title, items }) => (
                  <section key={title} className="mb-3 last:mb-0">
                    <h3 className="mb-1 font-medium">{title}</h3>
                    <ul className="list-disc space-y-1 pl-5 text-sm">
                      {items.map((item) => (
                        <li key={item} className="[overflow-wrap:anywhere]">
                          {marked(item)}
                        </li>
                      ))}
                    </ul>
                  </section>
                ))}
              </Panel>
            </div>
          ))}
          <div className="mt-4">
            <Panel title="Versions that have run here">
              <Table label="Versions">
                <thead>
                  <tr>
                    <th>Version</th>
                    <th>Database</th>
                    <th>Since</th>
                  </tr>
                </thead>
                <tbody>
                  {runs.map((one) => (
                    <tr key={one.since}>
                      <td>{one.version}</td>
                      <td>{one.databaseVersion}</td>
                      <td className="whitespace-nowrap">{fullTime(one.since)}</td>
                    </tr>
                  ))}
                </tbody>
              </Table>
            </Panel>
          </div>
        </>
      )}
    </Answer>
  );
}

/** The changelog’s own marks: what is strong, and what is typed. */
function marked(text: string) {
  return text.split(/(\*\*[^*]+\*\*|\*[^*]+\*|`[^`]+`)/).map((piece, at) => {
    // biome-ignore lint/suspicious/noArrayIndexKey: pieces of one text, which never change their order
    if (piece.startsWith('**')) return <strong key={at}>{piece.slice(2, -2)}</strong>;
    // biome-ignore lint/suspicious/noArrayIndexKey: as above
    if (piece.startsWith('*')) return <em key={at}>{piece.slice(1, -1)}</em>;
    // biome-ignore lint/suspicious/noArrayIndexKey: as above
    if (piece.startsWith('`')) return <code key={at}>{piece.slice(1, -1)}</code>;
    return piece;
  });
}
