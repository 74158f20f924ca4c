/** Everything that comes in: what the server knows of each attempt, and this page's own sending by the tus protocol. */
import { Upload } from 'tus-js-client';
import { ApiError, csrfToken, get, send, type Problem } from '../../lib/api/client';
import type { TakeInView } from '../../lib/api/types';

/** A file as chosen or dropped; only its own name counts, never its folder's. */
export interface Chosen {
  name: string;
  file: File;
}

class Sending {
  #running: Upload[] = [];
  #stopped = false;
  constructor(
    readonly id: string,
    private readonly files: Chosen[],
    private readonly failed: (problem: Problem) => void,
  ) {
    void this.#run();
  }
  async #run() {
    for (const [number, { file }] of this.files.entries()) {
      if (this.#stopped) return;
      try {
        await this.#one(file, number);
      } catch {
        return;
      }
    }
  }
  #one(file: File, number: number): Promise<void> {
    return new Promise((done, fail) => {
      const upload = new Upload(file, {
        uploadUrl: `/api/take-ins/files/${this.id}.${number}`,
        retryDelays: [0, 500, 1000, 3000, 5000, 10000, 20000],
        headers: { 'X-CSRF-Token': csrfToken() },
        storeFingerprintForResuming: false,
        onSuccess: () => done(),
        onError: (error) => {
          const status =
            'originalResponse' in error ? (error.originalResponse?.getStatus() ?? 0) : 0;
          if (status === 0)
            this.failed({
              code: 'offline',
              title: 'Upload interrupted',
              detail: `Sending ${file.name} was interrupted.`,
              hint: 'Received data is kept. Choose the same file again to resume.',
              status,
            });
          fail(error);
        },
      });
      this.#running = [upload];
      upload.start();
    });
  }
  stop() {
    this.#stopped = true;
    for (const upload of this.#running) void upload.abort();
  }
}

export class TakeIns {
  #list = $state.raw<TakeInView[]>([]);
  #sending = new Map<string, Sending>();
  #timer = 0;
  #seen = new Map<string, string>();
  constructor(
    private readonly arrived: (row: TakeInView) => void,
    private readonly trouble: (problem: Problem) => void,
  ) {}
  get list() {
    return this.#list;
  }
  get active() {
    return this.#list.filter((t) => t.state === 'receiving' || t.state === 'verifying');
  }
  get refused() {
    return this.#list.filter((t) => t.state === 'failed');
  }
  mine(id: string) {
    return this.#sending.has(id);
  }

  /** Look now, and again while anything is running. The folder the server watches is looked at slowly all the time. */
  async look() {
    clearTimeout(this.#timer);
    try {
      const found = await get('/take-ins');
      for (const row of found) {
        const before = this.#seen.get(row.id);
        if (row.state === 'done' && before !== undefined && before !== 'done') this.arrived(row);
        this.#seen.set(row.id, row.state);
      }
      this.#list = found;
    } catch (error) {
      if (error instanceof ApiError && error.problem.status !== 0) this.trouble(error.problem);
    }
    this.#timer = window.setTimeout(
      () => void this.look(),
      this.active.some((t) => this.mine(t.id) || t.source !== 'upload' || t.state === 'verifying')
        ? 400
        : 4000,
    );
  }
  end() {
    clearTimeout(this.#timer);
  }

  /** Send the files of one package; one that was broken off earlier goes on where it stands. */
  async take(files: Chosen[]) {
    const wanted = files.map((f) => f.name),
      total = files.reduce((sum, f) => sum + f.file.size, 0);
    const pending = this.#list.find(
      (t) =>
        t.source === 'upload' &&
        t.state === 'receiving' &&
        !this.mine(t.id) &&
        t.total === total &&
        t.files.join('/') === wanted.join('/'),
    );
    try {
      const row =
        pending ??
        (await send('POST', '/take-ins', {
          files: files.map((f): [string, number] => [f.name, f.file.size]),
        }));
      this.#seen.set(row.id, row.state);
      this.#sending.set(row.id, new Sending(row.id, files, this.trouble));
      await this.look();
    } catch (error) {
      this.trouble(
        error instanceof ApiError
          ? error.problem
          : {
              code: 'error',
              title: 'Request failed',
              detail: String(error),
              hint: '',
              status: 0,
            },
      );
    }
  }
  async fetch(url: string, sha256: string) {
    const row = await send('POST', '/take-ins', { url, sha256 });
    this.#seen.set(row.id, row.state);
    await this.look();
  }
  async stop(id: string) {
    this.#sending.get(id)?.stop();
    this.#sending.delete(id);
    try {
      await send('DELETE', `/take-ins/${id}`);
    } catch (error) {
      if (error instanceof ApiError) this.trouble(error.problem);
    }
    await this.look();
  }
}
