/** What this run used, so that a refusal can say where it came from. */
export const used: { tokenFrom: string | undefined } = { tokenFrom: undefined };
