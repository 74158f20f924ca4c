/** The estate as all its pages share it: hosts, machines, and what breaks the rules. */
import { get, send } from '../../lib/api/client';
import type { EstateView, FitnessView, MachineView } from '../../lib/api/types';
import { notices } from '../../lib/notices.svelte';

export class EstateData {
  #view = $state.raw<EstateView | null>(null);
  #fitness = $state.raw<FitnessView | null>(null);
  #busy = $state('');
  #told = 0;
  get view() {
    return this.#view;
  }
  get fitness() {
    return this.#fitness;
  }
  /** What is being done, '' nothing. */
  get busy() {
    return this.#busy;
  }

  async work(
    what: string,
    task: () => Promise<EstateView | MachineView[] | undefined>,
  ): Promise<boolean> {
    this.#busy = what;
    try {
      const found = await task();
      if (Array.isArray(found) || !found) this.#view = await get('/estate');
      else this.#view = found;
      this.#fitness = await get('/estate/rules');
      return true;
    } catch (error) {
      notices.problem(error);
      return false;
    } finally {
      this.#busy = '';
    }
  }
  load() {
    return this.work('loading', async () => undefined);
  }
  take(view: EstateView) {
    return this.work('loading', async () => view);
  }
  judged(fitness: FitnessView) {
    this.#fitness = fitness;
  }

  /** Hosts and machines side by side; with no names, all. */
  read(names: string[] = []) {
    return this.work('reading', async () => {
      const machines = this.#view?.machines.map((m) => m.machine.name) ?? [],
        hosts = this.#view?.hosts.map((h) => h.name) ?? [];
      const some = names.length > 0,
        mine = machines.filter((n) => !some || names.includes(n)),
        theirs = hosts.filter((n) => !some || names.includes(n));
      const part = Math.max(24, Math.ceil(theirs.length / 5)); // side by side: a part with a slow host holds no other up
      const done = (n: number) => {
        this.#told += n;
        this.#busy =
          this.#told < theirs.length ? `reading ${this.#told} of ${theirs.length}` : 'reading';
      };
      this.#told = 0;
      await Promise.all([
        ...Array.from({ length: Math.ceil(theirs.length / part) }, (_, i) =>
          theirs.slice(i * part, (i + 1) * part),
        ).map((names) =>
          send('POST', '/estate/read', { hosts: names }).then(() => done(names.length)),
        ),
        mine.length ? send('POST', '/estate/machines/read', { hosts: some ? mine : [] }) : null,
      ]);
      return undefined;
    });
  }
}
