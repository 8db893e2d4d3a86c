import { type Document, Lexer, type LineCounter, type ParsedNode, parseDocument } from 'yaml';

/** A document that takes more time or memory to read than its length warrants. */
export class UnboundedDocumentError extends Error {
  override readonly name = 'UnboundedDocumentError';
}

/** Characters of a document at most. */
export const LONGEST_DOCUMENT = 1_000_000;
const DEEPEST = 100;

/**
 * Reads a YAML document (JSON is one) that anybody may have written: in time that grows with its length alone. What stands in
 * a document deeper than {@link DEEPEST} levels is refused, since whoever reads it does so level by level; keys that
 * stand twice are the caller's to find, since the library compares each with each.
 *
 * @throws {UnboundedDocumentError}
 */
export function parseBounded(
  text: string,
  options: { readonly lineCounter?: LineCounter; readonly schema?: 'core' } = {},
): Document.Parsed<ParsedNode> {
  if (text.length > LONGEST_DOCUMENT)
    throw new UnboundedDocumentError(`It is longer than ${LONGEST_DOCUMENT.toLocaleString('en')} signs.`);
  if (isDeep(text)) throw new UnboundedDocumentError(`It is nested more than ${DEEPEST} levels deep.`);
  // Without places in messages: to find each of them takes a walk through the whole text.
  return parseDocument(text, { ...options, uniqueKeys: false, strict: true, prettyErrors: false });
}

/** What a document says. @throws {UnboundedDocumentError} where it says it by too many references to the same */
export function contentOf(document: Document.Parsed<ParsedNode>): unknown {
  try {
    return document.toJS();
  } catch (error) {
    if (error instanceof ReferenceError) throw new UnboundedDocumentError('It refers to the same too often.');
    throw error;
  }
}

/** Follows brackets, and by indentation and dashes how deep lines stand; sooner too deep than not deep enough. */
function isDeep(text: string): boolean {
  let flow = 0;
  let signs = 0;
  let isLineStart = true;
  const columns: number[] = [];
  for (const lexeme of new Lexer().lex(text)) {
    if (lexeme === '\n' || lexeme === '\r\n') {
      isLineStart = true;
      signs = 0;
      continue;
    }
    if (isLineStart) {
      isLineStart = false;
      const column = /^ *$/.test(lexeme) ? lexeme.length : 0;
      while ((columns.at(-1) ?? -1) >= column) columns.pop();
      columns.push(column);
    }
    if (lexeme === '[' || lexeme === '{') flow++;
    else if (lexeme === ']' || lexeme === '}') flow = Math.max(0, flow - 1);
    else if (lexeme === '-' || lexeme === '?') signs++;
    if (flow + signs + columns.length > DEEPEST) return true;
  }
  return false;
}
