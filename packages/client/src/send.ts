/** What is asked of the service, as HTTP. */
export interface Question {
  readonly method: string;
  readonly headers: Readonly<Record<string, string>>;
  readonly body?: string;
  readonly signal?: AbortSignal;
}

/** An answer over HTTP, whose body is read once: whole, or as it comes. */
export interface Answer {
  readonly ok: boolean;
  readonly status: number;
  /** Cookies that it sets, each as it would be sent back. */
  readonly cookies: readonly string[];
  text(): Promise<string>;
  pieces(): AsyncIterable<string>;
}

/** Asks over HTTP. @throws whatever keeps an answer from coming */
export type Send = (url: string, question: Question) => Promise<Answer>;

/** As browsers do it, and Node as well. */
export const sendByFetch: Send = async (url, question) => {
  const response = await fetch(url, question);
  return {
    ok: response.ok,
    status: response.status,
    cookies: response.headers.getSetCookie().map(asSentBack),
    text: () => response.text(),
    async *pieces() {
      if (response.body) yield* response.body.pipeThrough(new TextDecoderStream()) as unknown as AsyncIterable<string>;
    },
  };
};

/** What a browser sends back of a `Set-Cookie` header (RFC 6265, section 4.2). */
export const asSentBack = (header: string): string => header.split(';', 1)[0] as string;

/** Sends back the last cookie that was set, as a browser does. */
export function keepingCookie(send: Send): Send {
  let cookie: string | undefined;
  return async (url, question) => {
    const headers = { ...question.headers, ...(cookie === undefined ? {} : { cookie }) };
    const answer = await send(url, { ...question, headers });
    cookie = answer.cookies[0] ?? cookie;
    return answer;
  };
}
