import MarkdownIt from 'markdown-it';
import { type JSX, useMemo } from 'react';

/** Text that people write. What looks like HTML stays text; pictures of other places are not fetched. */
const reader = new MarkdownIt({ html: false, linkify: false, typographer: false }).disable('image');
reader.renderer.rules.link_open = (tokens, at, options, _env, self) => {
  tokens[at]?.attrSet('rel', 'noopener noreferrer nofollow');
  tokens[at]?.attrSet('target', '_blank');
  return self.renderToken(tokens, at, options);
};

/** Text with its marks set; nothing else in it is let through, and pictures are left out. */
export function Markdown({ text }: { readonly text: string }): JSX.Element {
  const html = useMemo(() => reader.render(text), [text]);
  // the reader escapes everything but its own marks.
  return <div className="markdown" dangerouslySetInnerHTML={{ __html: html }} />;
}
