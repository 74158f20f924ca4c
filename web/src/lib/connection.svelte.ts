/** Whether the server answers. A page that hears nothing for 3 s says so, and its clocks stand still. */

const EVERY_MS = 1000;
const LIMIT_MS = 1500;

class Connection {
  #heardAt = $state(Date.now());
  #lostAt = $state<number | null>(null);
  #trouble = $state('');
  #back: (() => void)[] = [];
  #timer: ReturnType<typeof setTimeout> | undefined;

  /** When the last answer came, in epoch milliseconds; null while the server answers. */
  get lostAt() {
    return this.#lostAt;
  }
  /** What keeps the server from storing, in its own words. */
  get trouble() {
    return this.#trouble;
  }
  /** Now, in epoch milliseconds; the moment of the last answer while there is none. */
  now() {
    return this.#lostAt ?? Date.now();
  }

  /** Asks again and again until told to stop. */
  watch(): () => void {
    let over = false;
    const ask = async () => {
      await this.#ask();
      if (!over) this.#timer = setTimeout(() => void ask(), EVERY_MS);
    };
    void ask();
    return () => {
      over = true;
      clearTimeout(this.#timer);
    };
  }

  /** Calls back each time the server answers again after a silence; the result stops that. */
  onBack(work: () => void): () => void {
    this.#back.push(work);
    return () => {
      this.#back = this.#back.filter((one) => one !== work);
    };
  }

  /** Resolves as soon as the server answers; at once while it does. */
  whenBack(): Promise<void> {
    if (this.#lostAt === null) return Promise.resolve();
    return new Promise((resolve) => {
      const stop = this.onBack(() => {
        stop();
        resolve();
      });
    });
  }

  /** Something else noticed that nothing answers. */
  lost() {
    this.#lostAt ??= this.#heardAt;
  }

  async #ask() {
    try {
      const answer = await fetch('/api/health', { signal: AbortSignal.timeout(LIMIT_MS) });
      const told = (await answer.json()) as { trouble?: string };
      this.#trouble = told.trouble ?? '';
      this.#heard();
    } catch {
      this.lost();
    }
  }

  #heard() {
    this.#heardAt = Date.now();
    if (this.#lostAt === null) return;
    this.#lostAt = null;
    for (const work of [...this.#back]) work();
  }
}

export const connection = new Connection();
