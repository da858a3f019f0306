import { Check, Copy } from 'lucide-react';
import { useEffect, useState } from 'react';

/** Copies a text and says so for a moment. */
export function CopyButton({ text, what, label = 'Copy' }: { text: string; what: string; label?: string }) {
  const [copied, setCopied] = useState(false);
  useEffect(() => {
    if (!copied) return;
    const timer = setTimeout(() => setCopied(false), 1500);
    return () => clearTimeout(timer);
  }, [copied]);
  return (
    <button
      type="button"
      className="btn btn-ghost btn-xs shrink-0"
      aria-label={copied ? `Copied: ${what}` : label === 'Copy' ? `Copy ${what}` : label}
      onClick={() => copy(text).then(() => setCopied(true))}
    >
      {copied ? <Check size={14} aria-hidden="true" /> : <Copy size={14} aria-hidden="true" />}
      {copied ? 'Copied' : label}
    </button>
  );
}

/** The clipboard needs a secure page; plain HTTP from another machine gets the older way. */
export async function copy(text: string): Promise<void> {
  if (navigator.clipboard) {
    try {
      await navigator.clipboard.writeText(text);
      return;
    } catch {
      // Not allowed here: the older way follows.
    }
  }
  const area = document.createElement('textarea');
  area.value = text;
  document.body.append(area);
  area.select();
  document.execCommand('copy');
  area.remove();
}
