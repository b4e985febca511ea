import type { components } from "./schema.gen.js";

type Schemas = components["schemas"];

/** Question is who wants to do what to which device, in the words of the service's own interface. */
export type Question = Omit<Schemas["Check"], "at">;

/** Answer is what the service says: whether, why, until when. */
export type Answer = Schemas["Answer"];

/** Options say which service is asked, and as whom. */
export type Options = {
  /** Where the service answers, such as https://sentier.example. */
  service: string;
  /** A token of a user with a mandate of enforcement. */
  token: string;
  /** For how long, in milliseconds, an answer is kept at most: the clocks of the service and of this machine may differ. */
  keepMost?: number;
  /** How many answers are kept at most. */
  keepMany?: number;
  /** By which it is asked, where it is not the machine's own. */
  fetch?: typeof fetch;
};

/** RefusedError is that the service gives no answer, and why. */
export class RefusedError extends Error {
  constructor(
    readonly status: number,
    detail: string,
  ) {
    super(detail);
    this.name = "RefusedError";
  }
}

type Kept = { answer: Answer; until: number };

/** In which time, in milliseconds, the stream of events says something: it is alive so long after that. */
const quiet = 20_000;

/**
 * Client asks a service, and keeps each answer until its end or until the policy has changed, whichever comes first. That it has not changed is known by the
 * service's events: while they do not come, every question is asked anew.
 */
export class Client {
  private readonly kept = new Map<string, Kept>();
  private readonly ended = new AbortController();
  private alive = 0; // until when the events are known to come
  private revision = 0;
  private readonly ask: typeof fetch;

  constructor(private readonly options: Options) {
    this.ask = options.fetch ?? fetch;
    void this.follow();
  }

  /** check asks whether somebody may, now, or gives the answer that is kept. */
  async check(question: Question): Promise<Answer> {
    const key = JSON.stringify(question, Object.keys(flat(question)).sort());
    const now = Date.now();
    const known = this.kept.get(key);
    if (known && now < known.until && now < this.alive) return known.answer;
    const before = this.revision;
    const answer = await this.post<Answer>("/api/v1/check", question);
    if ((answer.revision ?? 0) >= this.revision && before === this.revision)
      this.keep(key, answer, now);
    return answer;
  }

  /** follows tells whether answers are kept now: whether the events of the service come. */
  get follows(): boolean {
    return Date.now() < this.alive;
  }

  /** close ends the following; nothing is kept any more. */
  close(): void {
    this.ended.abort();
    this.forget();
  }

  private keep(key: string, answer: Answer, now: number) {
    const most = now + (this.options.keepMost ?? 60_000);
    const until = answer.until
      ? Math.min(most, Date.parse(answer.until))
      : most;
    this.kept.delete(key);
    this.kept.set(key, { answer, until });
    const oldest = this.kept.keys().next();
    if (this.kept.size > (this.options.keepMany ?? 10_000) && !oldest.done)
      this.kept.delete(oldest.value);
  }

  private forget() {
    this.kept.clear();
  }

  private headers(more: Record<string, string>) {
    return { Authorization: `Bearer ${this.options.token}`, ...more };
  }

  private async post<T>(path: string, body: unknown): Promise<T> {
    const response = await this.ask(
      new URL(path.slice(1), slashed(this.options.service)),
      {
        method: "POST",
        headers: this.headers({ "Content-Type": "application/json" }),
        body: JSON.stringify(body),
        signal: AbortSignal.any([
          this.ended.signal,
          AbortSignal.timeout(30_000),
        ]),
      },
    );
    const text = await response.text();
    if (!response.ok)
      throw new RefusedError(
        response.status,
        detail(text) ?? response.statusText,
      );
    return JSON.parse(text) as T;
  }

  /** follow reads the events, again and again. */
  private async follow() {
    for (
      let pause = 500;
      !this.ended.signal.aborted;
      pause = Math.min(2 * pause, 15_000)
    ) {
      try {
        if (await this.events()) pause = 500;
      } catch {
        // the line is cut: every question is asked anew until it is there again
      }
      this.alive = 0;
      this.forget();
      await new Promise((go) => setTimeout(go, pause));
    }
  }

  /** events reads one stream to its end, and tells whether anything came. */
  private async events(): Promise<boolean> {
    const watch = new AbortController();
    const response = await this.ask(
      new URL("api/v1/events", slashed(this.options.service)),
      {
        headers: this.headers({ Accept: "text/event-stream" }),
        signal: AbortSignal.any([this.ended.signal, watch.signal]),
      },
    );
    if (!response.ok || !response.body)
      throw new RefusedError(response.status, response.statusText);
    let silence = setTimeout(() => watch.abort(), quiet);
    let rest = "";
    let came = false;
    try {
      const text = response.body.pipeThrough(new TextDecoderStream());
      const reader = text.getReader();
      for (;;) {
        const { done, value } = await reader.read();
        if (done) return came;
        came = true;
        clearTimeout(silence);
        silence = setTimeout(() => watch.abort(), quiet);
        const lines = (rest + value).split("\n");
        rest = lines.pop() ?? "";
        for (const line of lines)
          if (line.startsWith("id: ")) this.at(Number(line.slice(4)));
        this.alive = Date.now() + quiet;
      }
    } finally {
      clearTimeout(silence);
    }
  }

  /** at takes the revision that there is: what was answered before it is kept no more. */
  private at(revision: number) {
    if (revision === this.revision) return;
    this.revision = revision;
    for (const [key, { answer }] of this.kept)
      if ((answer.revision ?? 0) < revision) this.kept.delete(key);
  }
}

const slashed = (at: string) => (at.endsWith("/") ? at : `${at}/`);

/** flat has the names of all fields of a question, of those within others as well. */
function flat(value: object): Record<string, true> {
  const out: Record<string, true> = {};
  for (const [name, within] of Object.entries(value)) {
    out[name] = true;
    if (typeof within === "object" && within !== null)
      Object.assign(out, flat(within));
  }
  return out;
}

/** detail is what a problem (RFC 9457) says. */
function detail(text: string): string | undefined {
  try {
    const problem = JSON.parse(text) as Schemas["Problem"];
    return problem.detail;
  } catch {
    return undefined;
  }
}
