import { bracketed } from '../core/address/ip-address.ts';

/** What a new host says of itself. */
export interface HostAnswers {
  host: string;
  addresses: readonly string[];
  postmaster: string;
  timeZone: string;
  resolvers: readonly string[];
  data: string;
  user: string;
  /** Where backups go; null for nowhere yet. */
  backups: string | null;
}

const LISTENERS: readonly [service: string, port: number, what: string][] = [
  ['smtp', 25, 'from other servers'],
  ['submission', 587, 'from mail programs, with STARTTLS'],
  ['submissions', 465, 'from mail programs, TLS at once'],
  ['imap', 143, 'for reading mail, with STARTTLS'],
  ['imaps', 993, 'TLS at once'],
  ['pop3', 110, 'with STLS'],
  ['pop3s', 995, 'TLS at once'],
  ['challenge', 80, 'where an authority looks whether a name is ours'],
];

/** The configuration of a new host; tenedor.example.toml has every other key. */
export function configuration(one: HostAnswers): string {
  const all = one.addresses.some((address) => address.includes(':')) ? '::' : '0.0.0.0';
  const listener = (service: string, address: string, port: number, what: string): string =>
    `[[listener]]\nservice = "${service}" # ${what}\naddress = "${address}"\nport = ${port}\n`;
  return [
    '# The configuration of Tenedor: what must be known before the database opens. Everything else is in the database.',
    '# Before a restart: tenedor config check --config FILE\n',
    `data = ${JSON.stringify(one.data)}`,
    '# Whose the files are. Started as root, it becomes this user before anything else.',
    `user = ${JSON.stringify(one.user)}\n`,
    `[host]\nname = ${JSON.stringify(one.host)}\naddresses = ${JSON.stringify(one.addresses)}\npostmaster = ${JSON.stringify(one.postmaster)}\ntime_zone = ${JSON.stringify(one.timeZone)}\n`,
    `[dns]\nresolvers = ${JSON.stringify(one.resolvers.map((address) => `${bracketed(address)}:53`))}\n`,
    one.backups === null ? '# [backup]\n# target = "/mnt/other-disk/tenedor"\n' : `[backup]\ntarget = ${JSON.stringify(one.backups)}\n`,
    ...LISTENERS.map(([service, port, what]) => listener(service, all, port, what)),
    listener('web', '127.0.0.1', 8025, 'console and API; put `tls = true` when it is reached from other machines'),
  ].join('\n');
}

/** What the unit needs to know. */
export interface UnitPlaces {
  /** The command that starts the program. */
  program: string;
  config: string;
  user: string;
  /** Folders that it writes to: those without which it can’t start, and others, such as a disk for backups. */
  needed: readonly string[];
  usual: readonly string[];
}

/** A path as a unit has it (systemd.syntax(7)): quoted where need be, and `%` means itself. */
const inUnit = (path: string): string => (/^[\w./-]+$/.test(path) ? path : JSON.stringify(path).replaceAll('%', '%%'));
/** In a command, `$` means itself, too. */
const inCommand = (path: string): string => inUnit(path).replaceAll('$', '$$$$');

/**
 * The unit with which systemd runs the service (systemd.service(5), systemd.exec(5)): never root, with the one right to open low ports. Memory that is
 * written and then run is not forbidden, since the JavaScript engine compiles.
 */
export const unit = ({ program, config, user, needed, usual }: UnitPlaces): string => `[Unit]
Description=Tenedor mail server
Wants=network-online.target
After=network-online.target nss-lookup.target time-sync.target
StartLimitIntervalSec=10min
StartLimitBurst=5

[Service]
Type=notify
NotifyAccess=all
ExecStart=${inCommand(program)} serve --config ${inCommand(config)}
ExecReload=/bin/kill -HUP $MAINPID
User=${user}
Group=${user}
WatchdogSec=60
# A large database may have to be brought up to date first.
TimeoutStartSec=1h
TimeoutStopSec=20
Restart=on-failure
RestartSec=2
LimitNOFILE=65536
UMask=0077

AmbientCapabilities=CAP_NET_BIND_SERVICE
CapabilityBoundingSet=CAP_NET_BIND_SERVICE
NoNewPrivileges=yes
ProtectSystem=strict
ReadWritePaths=${[...needed.map(inUnit), ...usual.map((one) => inUnit(`-${one}`))].join(' ')}
ProtectHome=yes
PrivateTmp=yes
PrivateDevices=yes
ProtectClock=yes
ProtectHostname=yes
ProtectControlGroups=yes
ProtectKernelLogs=yes
ProtectKernelModules=yes
ProtectKernelTunables=yes
ProtectProc=invisible
RestrictAddressFamilies=AF_INET AF_INET6 AF_UNIX AF_NETLINK
RestrictNamespaces=yes
RestrictRealtime=yes
RestrictSUIDSGID=yes
LockPersonality=yes
RemoveIPC=yes
SystemCallArchitectures=native
SystemCallFilter=@system-service
SystemCallFilter=~@privileged @resources
SystemCallErrorNumber=EPERM

[Install]
WantedBy=multi-user.target
`;
