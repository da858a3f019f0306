import { Parser } from 'htmlparser2';

export interface HtmlLink {
  /** What is shown. */
  text: string;
  href: string;
}

/** What people see of an HTML text. */
export interface HtmlText {
  words: string;
  links: HtmlLink[];
  pictures: number;
}

const MOST_LINKS = 1000;
/** Letters of one link's text that are looked at. */
const LONGEST_TEXT = 500;
/** What stands in these is not shown. */
const UNSEEN = new Set(['style', 'script', 'head', 'title', 'template', 'noscript']);
/** What begins a new word. */
const BLOCKS = new Set([
  'p',
  'div',
  'br',
  'td',
  'th',
  'tr',
  'li',
  'table',
  'h1',
  'h2',
  'h3',
  'h4',
  'h5',
  'h6',
  'section',
  'hr',
  'blockquote',
]);

/** Reads HTML in one pass, as a browser would, and keeps what is shown. */
export function readHtml(html: string): HtmlText {
  const words: string[] = [];
  const links: HtmlLink[] = [];
  let pictures = 0;
  let unseen = 0;
  let open: HtmlLink | null = null;
  const parser = new Parser({
    onopentag(name, attributes) {
      if (UNSEEN.has(name)) unseen += 1;
      if (BLOCKS.has(name)) words.push(' ');
      if (name === 'img') pictures += 1;
      if (links.length >= MOST_LINKS) return;
      // A picture's areas and a form lead somewhere, too.
      if (name === 'area' && attributes.href !== undefined) links.push({ text: attributes.alt ?? '', href: attributes.href });
      const target = name === 'form' ? attributes.action : attributes.formaction;
      if (target !== undefined) links.push({ text: '', href: target });
      if (name !== 'a' || attributes.href === undefined) return;
      open = { text: '', href: attributes.href };
      links.push(open);
    },
    ontext(text) {
      if (unseen > 0) return;
      words.push(text);
      if (open && open.text.length < LONGEST_TEXT) open.text += text.slice(0, LONGEST_TEXT);
    },
    onclosetag(name) {
      if (UNSEEN.has(name)) unseen = Math.max(0, unseen - 1);
      if (BLOCKS.has(name)) words.push(' ');
      if (name === 'a') open = null;
    },
  });
  parser.write(html);
  parser.end();
  return { words: words.join(''), links, pictures };
}
