import { BaseSequencer, type TestSpecification } from 'vitest/node';

/** Files that take long though they are short: what dies in them is waited for. They begin first, beside others that work. */
const WAITING = /\/(?:crash-[^/]+|calendar|webhooks|attacks\/gateway)\.test\.ts$/;

/** Begins with what waits, and goes on as vitest does, from the longest file to the shortest. */
export default class LongestFirst extends BaseSequencer {
  override async sort(files: TestSpecification[]): Promise<TestSpecification[]> {
    const sorted = await super.sort(files);
    const [waiting, others] = [true, false].map((is) => sorted.filter((one) => WAITING.test(one.moduleId) === is));
    // One that waits, one that works, and so on, for as long as there are any of the first.
    const mixed = (waiting as TestSpecification[]).flatMap((one, i) => [one, ...(others?.slice(i, i + 1) ?? [])]);
    return [...mixed, ...(others ?? []).slice(waiting?.length ?? 0)];
  }
}
