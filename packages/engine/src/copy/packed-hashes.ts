import { areaOf, Rewriter } from '@tessarion/core';
import { areasOf, type Environment } from '../site/environment.js';
import { type HashMemory, YOUNG_NS } from '../site/list-root.js';
import { FileForm } from '../site/root-reader.js';
import type { PackedFile } from './pack.js';

/** What is learned of a copy's files, and of its source's, while their bytes are packed: nobody needs to read them again to know them. */
export class PackedHashes {
  readonly #form: FileForm;

  /**
   * @param memories of both ends
   * @param version what decides how files are read now
   * @param begunAt when copying began; undefined where the source is no environment that still has the files
   */
  constructor(
    readonly copy: Environment,
    private readonly memories: { readonly copy: HashMemory; readonly source: HashMemory },
    private readonly version: string,
    private readonly begunAt: Date | undefined,
  ) {
    this.#form = new FileForm(copy, new Rewriter(copy.place));
  }

  note({ root, path, content, copy, source }: PackedFile): void {
    // Rules may have changed since it was copied.
    if (this.#form.isTranslated(path, areaOf(areasOf(this.copy.profile), path))) return;
    const stateOf = (mode: number) => ({ type: 'file', mode, ...content }) as const;
    if (copy) this.memories.copy.filesOf(root, this.version).remember(path, copy, stateOf(copy.mode));
    // Its own bytes were read while they were copied, which is a while ago: they must have been at rest by then.
    if (source && this.begunAt && source.changedAtNs < BigInt(this.begunAt.getTime()) * 1_000_000n - YOUNG_NS)
      this.memories.source.filesOf(root, this.version).remember(path, source, stateOf(source.mode));
  }

  save(): void {
    this.memories.copy.save();
    this.memories.source.save();
  }
}
