import { cloneElement, type ReactElement, type ReactNode, useEffect, useId, useRef } from 'react';
import type { CallProblem } from '../api.ts';
import { ProblemNote } from './blocks.tsx';

/** A dialog over the page; Escape and the backdrop close it. */
export function Dialog({
  title,
  open,
  onClose,
  wide = false,
  children,
}: {
  title: string;
  open: boolean;
  onClose: () => void;
  wide?: boolean;
  children: ReactNode;
}) {
  const box = useRef<HTMLDialogElement>(null);
  useEffect(() => {
    if (open) box.current?.showModal();
    else box.current?.close();
  }, [open]);
  return (
    <dialog ref={box} className="modal" aria-label={title} onClose={onClose}>
      <div className={`modal-box max-h-[85vh] whitespace-normal text-left font-normal ${wide ? 'max-w-3xl' : ''}`}>
        <h2 className="mb-3 font-semibold text-lg">{title}</h2>
        {open ? children : null}
      </div>
      <form method="dialog" className="modal-backdrop">
        <button type="submit" tabIndex={-1} aria-label="Close">
          close
        </button>
      </form>
    </dialog>
  );
}

/** A labelled input of a form; the input gets the label's and the hint's ids. */
export function Field({
  label,
  hint,
  children,
}: {
  label: string;
  hint?: string;
  children: ReactElement<{ id?: string; 'aria-describedby'?: string }>;
}) {
  const id = useId();
  return (
    <div className="mb-3">
      <label htmlFor={id} className="mb-1 block font-medium text-sm">
        {label}
      </label>
      {cloneElement(children, { id, ...(hint ? { 'aria-describedby': `${id}-hint` } : {}) })}
      {hint ? (
        <p id={`${id}-hint`} className="soft mt-1 text-xs">
          {hint}
        </p>
      ) : null}
    </div>
  );
}

/** A yes or no of a form. */
export function Check({ label, value, onChange }: { label: string; value: boolean; onChange: (value: boolean) => void }) {
  return (
    <label className="mb-3 flex items-center gap-2 text-sm">
      <input type="checkbox" className="checkbox checkbox-sm" checked={value} onChange={(event) => onChange(event.target.checked)} />
      {label}
    </label>
  );
}

/** A form's foot: the problem, if any, and the buttons. */
export function FormEnd({
  action,
  busy,
  problem,
  onCancel,
  danger = false,
  ready = true,
}: {
  action: string;
  busy: boolean;
  problem: CallProblem | null;
  /** Null where there is nothing to go back to. */
  onCancel: (() => void) | null;
  danger?: boolean;
  /** Whether all is filled in. */
  ready?: boolean;
}) {
  return (
    <>
      {problem ? <ProblemNote problem={problem} /> : null}
      <div className="mt-4 flex justify-end gap-2">
        {onCancel ? (
          <button type="button" className="btn btn-ghost" onClick={onCancel}>
            Cancel
          </button>
        ) : null}
        <button type="submit" className={`btn ${danger ? 'btn-error' : 'btn-primary'}`} disabled={busy || !ready}>
          {busy ? <span className="loading loading-spinner loading-sm" aria-hidden="true" /> : null}
          {action}
        </button>
      </div>
    </>
  );
}
