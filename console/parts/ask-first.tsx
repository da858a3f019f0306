import type { LucideIcon } from 'lucide-react';
import { useState } from 'react';
import { createPortal } from 'react-dom';
import { IconButton } from './blocks.tsx';
import { Dialog } from './forms.tsx';

/** A button for something that can’t be taken back: it asks before it acts. With an icon it shows that only. */
export function AskFirst({
  icon,
  label,
  title = label,
  question,
  action,
  act,
  disabled = false,
}: {
  icon?: LucideIcon;
  label: string;
  title?: string;
  question: string;
  /** The verb of the button that acts. */
  action: string;
  act: () => void;
  disabled?: boolean;
}) {
  const [isAsking, setAsking] = useState(false);
  const close = () => setAsking(false);
  return (
    <>
      {icon ? (
        <IconButton icon={icon} label={label} title={title} disabled={disabled} onClick={() => setAsking(true)} />
      ) : (
        <button type="button" className="btn btn-sm" disabled={disabled} onClick={() => setAsking(true)}>
          {label}
        </button>
      )}
      {isAsking
        ? // Outside of the form that the button may stand in: what is sent here must not send that one.
          createPortal(
            <div onSubmit={(event) => event.stopPropagation()}>
              <Dialog title={title} open onClose={close}>
                <p className="text-sm">{question}</p>
                <div className="mt-4 flex justify-end gap-2">
                  <button type="button" className="btn btn-ghost" onClick={close}>
                    Cancel
                  </button>
                  <button
                    type="button"
                    className="btn btn-error"
                    onClick={() => {
                      close();
                      act();
                    }}
                  >
                    {action}
                  </button>
                </div>
              </Dialog>
            </div>,
            document.body,
          )
        : null}
    </>
  );
}
