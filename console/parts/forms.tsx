import {
  cloneElement,
  createContext,
  type FormHTMLAttributes,
  type ReactElement,
  type ReactNode,
  useContext,
  useEffect,
  useId,
  useMemo,
  useRef,
} from 'react';
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
/** What a form was refused for; a field of it that shows the reason says so, and its foot need not. */
interface Refusal {
  problem: CallProblem | null;
  shownAt: Set<string>;
}
const FormRefusal = createContext<Refusal>({ problem: null, shownAt: new Set() });

/** A form whose fields show why the service refused them; the first of them takes the focus. */
export function Form({ problem, children, ...rest }: FormHTMLAttributes<HTMLFormElement> & { problem: CallProblem | null }) {
  const form = useRef<HTMLFormElement>(null);
  useEffect(() => {
    if (problem) form.current?.querySelector<HTMLElement>('[aria-invalid="true"]')?.focus();
  }, [problem]);
  const refusal = useMemo(() => ({ problem, shownAt: new Set<string>() }), [problem]);
  return (
    <form ref={form} {...rest}>
      <FormRefusal value={refusal}>{children}</FormRefusal>
    </form>
  );
}

/** Whether a problem is about a field, or about something in it (`accounts.3.into`). */
const isAbout = (problem: CallProblem | null, field: string | undefined): problem is CallProblem =>
  field !== undefined && problem?.field != null && (problem.field === field || problem.field.startsWith(`${field}.`));

/** A labelled input; `field` is what the API calls it. */
export function Field({
  label,
  hint,
  field,
  children,
}: {
  label: string;
  hint?: string;
  field?: string;
  children: ReactElement<{ id?: string; 'aria-describedby'?: string; 'aria-invalid'?: boolean }>;
}) {
  const id = useId();
  const { problem, shownAt } = useContext(FormRefusal);
  const isRefused = isAbout(problem, field);
  if (isRefused) shownAt.add(problem.field ?? '');
  const described = [...(isRefused ? [`${id}-problem`] : []), ...(hint ? [`${id}-hint`] : [])].join(' ');
  return (
    <div className="mb-3">
      <label htmlFor={id} className="mb-1 block font-medium text-sm">
        {label}
      </label>
      {cloneElement(children, {
        id,
        ...(described ? { 'aria-describedby': described } : {}),
        ...(isRefused ? { 'aria-invalid': true } : {}),
      })}
      {isRefused ? (
        <p id={`${id}-problem`} role="alert" className="mt-1 text-error text-sm">
          {withoutField(problem.detail)} {problem.remedy}
        </p>
      ) : null}
      {hint ? (
        <p id={`${id}-hint`} className="soft mt-1 text-xs">
          {hint}
        </p>
      ) : null}
    </div>
  );
}

/** The field's own label says which it is. */
const withoutField = (detail: string): string => detail.replace(/^The field “[^”]*” (\w)/, (_all, first: string) => first.toUpperCase());

/** A yes or no of a form. */
export function Check({ label, value, onChange }: { label: string; value: boolean; onChange: (value: boolean) => void }) {
  return (
    <label className="mb-3 flex items-center gap-2 text-sm">
      <input type="checkbox" className="checkbox checkbox-sm" checked={value} onChange={(event) => onChange(event.target.checked)} />
      {label}
    </label>
  );
}

/** What a form was refused for, unless one of its fields says so. */
export function FormProblem({ problem }: { problem: CallProblem | null }) {
  const { shownAt } = useContext(FormRefusal);
  return problem && !(problem.field !== null && shownAt.has(problem.field)) ? <ProblemNote problem={problem} /> : null;
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
      <FormProblem problem={problem} />
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
