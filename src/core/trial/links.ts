import { isIpAddress } from '../address/ip-address.ts';
import { organisationalDomain } from '../dmarc/record.ts';
import { fileKind } from './attachments.ts';
import { type MessageDraft, type MessageFinding, messageFindings } from './finding.ts';
import type { HtmlLink } from './html.ts';

/** Whether links lead where they say that they lead. */
export function linkFindings(links: readonly HtmlLink[]): MessageFinding[] {
  const drafts: MessageDraft<'links'>[] = [];
  const read = links.flatMap((link) => {
    const url = webUrl(link.href);
    return url === null ? [] : [{ ...link, url }];
  });
  const others = read.filter(({ text, url }) => {
    const shown = shownHost(text);
    return (shown !== null && organisationalDomain(shown) !== organisationalDomain(url.hostname)) || url.username !== '';
  });
  if (others.length > 0)
    drafts.push({
      code: 'links-other-host',
      headline: `${others.length === 1 ? 'A link shows' : `${others.length} links show`} one host and ${others.length === 1 ? 'goes' : 'go'} to another.`,
      seen: others.map(({ text, href }) => `${text.trim()} → ${href}`),
      remedy: 'Show the real target, or text instead of an address. Track clicks under your own domain.',
    });
  const bare = read.filter(({ url }) => isIpAddress(url.hostname.replace(/^\[|\]$/g, '')));
  if (bare.length > 0)
    drafts.push({
      code: 'links-address',
      headline: 'A link goes to a bare address.',
      seen: bare.map(({ href }) => href),
      remedy: 'Use the name of the host.',
    });
  const clear = read.filter(({ url }) => url.protocol === 'http:');
  if (clear.length > 0)
    drafts.push({
      code: 'links-in-clear',
      headline: `${clear.length === 1 ? 'A link is' : `${clear.length} links are`} without TLS (http:).`,
      seen: clear.map(({ href }) => href),
      remedy: 'Use https:.',
    });
  if (drafts.length > 0) return messageFindings('links', drafts);
  return messageFindings('links', [
    {
      code: 'links-good',
      headline:
        read.length === 0
          ? 'It has no links.'
          : read.length === 1
            ? 'Its link goes where it says.'
            : `Its ${read.length} links go where they say.`,
    },
  ]);
}

function webUrl(href: string): URL | null {
  if (!/^\s*https?:/i.test(href)) return null;
  try {
    return new URL(href.trim());
  } catch {
    return null;
  }
}

/** The host that a link's text shows, by itself or among words; null where there is none, or the name of a file. */
function shownHost(text: string): string | null {
  const whole = hostOf(text.trim());
  if (whole !== null) return whole;
  // Among words only what is plainly an address: “node.js” is none.
  for (const word of text.split(/[\s()<>"'“”‘’,;]+/).slice(0, MOST_WORDS)) {
    const host = /^(?:https?:\/\/|www\.)/i.test(word) ? hostOf(word.replace(/[.!?]+$/, '')) : null;
    if (host !== null) return host;
  }
  return null;
}

const MOST_WORDS = 100;

function hostOf(text: string): string | null {
  const found = /^(https?:\/\/)?((?:[a-z0-9-]{1,63}\.){1,10}[a-z]{2,63})(?::\d{1,5})?(?:[/?#]\S*)?$/i.exec(text);
  if (!found) return null;
  const [, scheme, host = ''] = found;
  const isFile = scheme === undefined && !/^www\./i.test(host) && fileKind(host) !== 'other';
  return isFile ? null : host.toLowerCase();
}
