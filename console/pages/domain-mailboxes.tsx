import { FileUp, FolderOpen, HardDrive, KeyRound, Pencil, Plus, Smartphone, Trash2 } from 'lucide-react';
import { useState } from 'react';
import type { Mailbox } from '../../src/api/mailbox-schemas.ts';
import type { Alias, Domain } from '../../src/api/schemas.ts';
import { call, part } from '../api.ts';
import { AliasForm } from '../parts/alias-form.tsx';
import { Empty, IconButton, Panel } from '../parts/blocks.tsx';
import { Dialog } from '../parts/forms.tsx';
import { Listing } from '../parts/listing.tsx';
import { LoadLists } from '../parts/load-lists.tsx';
import { MailboxContents } from '../parts/mailbox-contents.tsx';
import { AddMailbox, ChangeMailbox, QuotaOfMany, RemoveMailboxes } from '../parts/mailbox-forms.tsx';
import { ManyForm } from '../parts/many-form.tsx';
import { MovedAddresses } from '../parts/moved-addresses.tsx';
import { RemoveDialog } from '../parts/remove.tsx';
import { RemovedMailboxes } from '../parts/removed-mailboxes.tsx';
import { SendingButton } from '../parts/sending-dialog.tsx';
import { SettingsSheet } from '../parts/settings-sheet.tsx';
import { SignInHistory } from '../parts/sign-in-history.tsx';
import { SignInTroubles } from '../parts/sign-in-troubles.tsx';
import { size } from '../parts/words.ts';

type Open =
  | { kind: 'add-mailbox' | 'load' }
  | { kind: 'add-alias' }
  | { kind: 'mailbox' | 'contents' | 'settings'; mailbox: Mailbox }
  | { kind: 'alias'; alias: Alias }
  | { kind: 'remove'; path: string; name: string }
  | { kind: 'remove-many' | 'quotas'; rows: Mailbox[] }
  | { kind: 'remove-aliases'; rows: Alias[] }
  | null;

export function MailboxesTab({ domain }: { domain: Domain }) {
  const [open, setOpen] = useState<Open>(null);
  const close = (): void => setOpen(null);
  if (domain.role !== 'home')
    return (
      <div className="panel">
        <Empty>The role {domain.role} has no mailboxes here. To host them here, set the domain’s role to home in its settings.</Empty>
      </div>
    );
  const addMailbox = (
    <span className="flex flex-wrap gap-2">
      <button type="button" className="btn btn-sm" onClick={() => setOpen({ kind: 'load' })}>
        <FileUp size={14} aria-hidden="true" /> Load a list
      </button>
      <button type="button" className="btn btn-sm btn-primary" onClick={() => setOpen({ kind: 'add-mailbox' })}>
        <Plus size={14} aria-hidden="true" /> Add a mailbox
      </button>
    </span>
  );
  const addAlias = (
    <button type="button" className="btn btn-sm" onClick={() => setOpen({ kind: 'add-alias' })}>
      <Plus size={14} aria-hidden="true" /> Add an alias
    </button>
  );
  return (
    <div className="space-y-4">
      <Panel title="Mailboxes" aside={addMailbox}>
        <Listing<Mailbox>
          name="mailboxes"
          path={`/domains/${part(domain.name)}/mailboxes`}
          searchFor="mailboxes"
          keyOf={(one) => one.address}
          nameOf={(one) => one.address}
          columns={[
            {
              heading: 'Address',
              sort: 'address',
              cell: (one) => (
                <>
                  <span className="font-medium">{one.address}</span>
                  {one.name || one.shared ? (
                    <span className="soft block text-xs">{[one.name, one.shared ? 'shared' : ''].filter(Boolean).join(' · ')}</span>
                  ) : null}
                </>
              ),
            },
            {
              heading: 'Messages',
              sort: 'messages',
              down: true,
              className: 'whitespace-nowrap',
              cell: (one) => (
                <>
                  {one.messages.toLocaleString('en')}
                  {one.quotaMessages === null ? null : <span className="soft"> of {one.quotaMessages.toLocaleString('en')}</span>}
                </>
              ),
            },
            {
              heading: 'Stored',
              sort: 'storage',
              down: true,
              className: 'whitespace-nowrap',
              cell: (one) => (
                <>
                  {size(one.usedBytes)} <span className="soft">of {size(one.quotaBytes)}</span>
                </>
              ),
            },
          ]}
          actions={(one) => (
            <>
              <SendingButton scope={one.address} name={one.address} />
              <IconButton
                icon={FolderOpen}
                label={`Folders and devices of ${one.address}`}
                title="Folders, devices and open sessions"
                onClick={() => setOpen({ kind: 'contents', mailbox: one })}
              />
              <IconButton
                icon={Smartphone}
                label={`Client settings of ${one.address}`}
                title="Client settings"
                onClick={() => setOpen({ kind: 'settings', mailbox: one })}
              />
              <IconButton
                icon={KeyRound}
                label={`Change ${one.address}`}
                title="Password and quota"
                onClick={() => setOpen({ kind: 'mailbox', mailbox: one })}
              />
              <IconButton
                icon={Trash2}
                label={`Remove ${one.address}`}
                title="Remove"
                onClick={() => setOpen({ kind: 'remove', path: `/mailboxes/${part(one.address)}`, name: one.address })}
              />
            </>
          )}
          many={[
            { name: 'Set the quota of', icon: HardDrive, onAct: (rows) => setOpen({ kind: 'quotas', rows }) },
            { name: 'Remove', icon: Trash2, onAct: (rows) => setOpen({ kind: 'remove-many', rows }) },
          ]}
          empty={<Empty>No mailboxes yet. Mail to postmaster and abuse goes to the provider.</Empty>}
        />
      </Panel>
      <Panel title="Aliases" aside={addAlias}>
        <Listing<Alias>
          name="aliases"
          path={`/domains/${part(domain.name)}/aliases`}
          searchFor="aliases"
          keyOf={(one) => one.address}
          nameOf={(one) => one.address}
          columns={[
            { heading: 'Alias', sort: 'address', className: 'font-medium', cell: (one) => one.address },
            { heading: 'Targets', className: '[overflow-wrap:anywhere]', cell: (one) => one.targets.join(', ') },
          ]}
          actions={(one) => (
            <>
              <IconButton
                icon={Pencil}
                label={`Change ${one.address}`}
                title="Change"
                onClick={() => setOpen({ kind: 'alias', alias: one })}
              />
              <IconButton
                icon={Trash2}
                label={`Remove ${one.address}`}
                title="Remove"
                onClick={() => setOpen({ kind: 'remove', path: `/aliases/${part(one.address)}`, name: one.address })}
              />
            </>
          )}
          many={[{ name: 'Remove', icon: Trash2, onAct: (rows) => setOpen({ kind: 'remove-aliases', rows }) }]}
          empty={<Empty>No aliases yet. An alias delivers to one or more addresses, here or elsewhere.</Empty>}
        />
      </Panel>
      <RemovedMailboxes domain={domain} />
      <MovedAddresses domain={domain.name} />
      <SignInTroubles domain={domain.name} />
      <SignInHistory domain={domain.name} />
      <Dialog title="Load a list, or several" open={open?.kind === 'load'} onClose={close}>
        {open?.kind === 'load' ? <LoadLists onClose={close} /> : null}
      </Dialog>
      <Dialog title="Add a mailbox" open={open?.kind === 'add-mailbox'} onClose={close}>
        <AddMailbox domain={domain} onClose={close} />
      </Dialog>
      <Dialog title={open?.kind === 'mailbox' ? open.mailbox.address : 'Mailbox'} open={open?.kind === 'mailbox'} onClose={close}>
        {open?.kind === 'mailbox' ? <ChangeMailbox mailbox={open.mailbox} onClose={close} /> : null}
      </Dialog>
      <Dialog
        wide
        title={open?.kind === 'settings' ? `Client settings of ${open.mailbox.address}` : ''}
        open={open?.kind === 'settings'}
        onClose={close}
      >
        {open?.kind === 'settings' ? <SettingsSheet address={open.mailbox.address} /> : null}
      </Dialog>
      <Dialog title={open?.kind === 'contents' ? open.mailbox.address : 'Folders'} open={open?.kind === 'contents'} onClose={close}>
        {open?.kind === 'contents' ? <MailboxContents mailbox={open.mailbox} onClose={close} /> : null}
      </Dialog>
      <Dialog
        title={open?.kind === 'alias' ? open.alias.address : 'Add an alias'}
        open={open?.kind === 'alias' || open?.kind === 'add-alias'}
        onClose={close}
      >
        <AliasForm domain={domain} alias={open?.kind === 'alias' ? open.alias : null} onClose={close} />
      </Dialog>
      <RemoveDialog what={open?.kind === 'remove' ? open : null} onClose={close} />
      <Dialog title="Remove several mailboxes" open={open?.kind === 'remove-many'} onClose={close}>
        {open?.kind === 'remove-many' ? <RemoveMailboxes rows={open.rows} onClose={close} /> : null}
      </Dialog>
      <Dialog title="Remove several aliases" open={open?.kind === 'remove-aliases'} onClose={close}>
        {open?.kind === 'remove-aliases' ? (
          <ManyForm
            rows={open.rows}
            nameOf={(one) => one.address}
            words="Mail to these addresses will be refused:"
            action="Remove them"
            act={(one) => call('DELETE', `/aliases/${part(one.address)}`)}
            onClose={close}
            danger
          />
        ) : null}
      </Dialog>
      <Dialog title="Set the quota of several mailboxes" open={open?.kind === 'quotas'} onClose={close}>
        {open?.kind === 'quotas' ? <QuotaOfMany rows={open.rows} quota={domain.quotaBytes} onClose={close} /> : null}
      </Dialog>
    </div>
  );
}
