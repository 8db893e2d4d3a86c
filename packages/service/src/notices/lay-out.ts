/** What a mail says: the outcome first, one sentence, words if there are any, one link, and why it came. */
export interface Letter {
  readonly head: string;
  readonly sentence: string;
  readonly words: string;
  /** Several things, each with its own link. */
  readonly list?: readonly { readonly text: string; readonly url: string }[];
  readonly link: { readonly text: string; readonly url: string };
  readonly footer: string;
  /** A link that ends such mails. */
  readonly stop?: string;
}

const inHtml = (text: string): string => text.replace(/[&<>"']/g, (sign) => `&#${sign.charCodeAt(0)};`);

/** A mail in plain text and in HTML that say the same. */
export function layOut({ head, sentence, words, list = [], link, footer, stop }: Letter): {
  subject: string;
  text: string;
  html: string;
} {
  const end = stop === undefined ? '' : ` <a href="${inHtml(stop)}" style="color:#5b6a72">No more of these</a>`;
  return {
    subject: head.replace(/[\r\n]+/g, ' '),
    text: [
      head,
      sentence,
      ...(words === '' ? [] : [words]),
      ...list.map((one) => `${one.text}\n${one.url}`),
      link.url,
      stop === undefined ? footer : `${footer}\nNo more of these: ${stop}`,
    ].join('\n\n'),
    html: `<!doctype html><html><body style="margin:0;background:#ffffff;color:#16222a;font:15px/22px sans-serif"><div style="max-width:560px;margin:0 auto;padding:24px 16px"><p style="font-size:20px;line-height:28px;margin:0 0 8px"><b>${inHtml(head)}</b></p><p style="margin:0 0 16px">${inHtml(sentence)}</p>${words === '' ? '' : `<p style="margin:0 0 16px;padding-left:12px;border-left:3px solid #bac5c7;white-space:pre-wrap">${inHtml(words)}</p>`}${list.map((one) => `<p style="margin:0 0 8px"><a href="${inHtml(one.url)}" style="color:#16222a">${inHtml(one.text)}</a></p>`).join('')}<p style="margin:16px 0 24px"><a href="${inHtml(link.url)}" style="display:inline-block;background:#7d265e;color:#fefbfc;padding:8px 16px;text-decoration:none;font-weight:600">${inHtml(link.text)}</a></p><p style="margin:0;color:#5b6a72;font-size:12px;line-height:18px">${inHtml(footer)}${end}</p></div></body></html>`,
  };
}
