/** Work on machines that is asked for in a dialog: what speaks against it, and starting it. */
import { ApiError, send } from '../../lib/api/client';
import type { Preview } from '../../lib/api/types';
import { router } from '../../lib/router.svelte';

type Work = Parameters<typeof send<'POST', '/estate/groundwork/preview'>>[2];

const QUIET_MS = 150;

/** Made while a component is set up: it looks at the work again whenever that changes. */
export class Request {
  preview = $state.raw<Preview | null>(null);
  problem = $state('');
  busy = $state(false);
  #asked = 0;
  #work: () => Work | null;

  /** `work`: what would be done now; null while nothing is chosen. */
  constructor(work: () => Work | null) {
    this.#work = work;
    $effect(() => {
      const body = this.#work();
      const number = ++this.#asked;
      this.problem = '';
      if (!body) {
        this.preview = null;
        return;
      }
      const timer = window.setTimeout(() => void this.#look(body, number), QUIET_MS);
      return () => {
        clearTimeout(timer);
      };
    });
  }

  async #look(body: Work, number: number) {
    try {
      const found = await send('POST', '/estate/groundwork/preview', body);
      if (number === this.#asked) this.preview = found;
    } catch (error) {
      if (number === this.#asked) this.#said(error);
    }
  }

  #said(error: unknown) {
    this.problem =
      error instanceof ApiError ? `${error.problem.detail} ${error.problem.hint}` : String(error);
  }

  /** Why it may not be done, each reason once; of one machine where it is named. */
  refusals(host = ''): string[] {
    const steps = this.preview?.steps.filter((s) => !host || s.host === host) ?? [];
    return [...new Set(steps.flatMap((s) => s.refusals))];
  }

  /** Start it and show the run. */
  async go(onclose: () => void) {
    const work = this.#work();
    if (!work || !this.preview) return;
    this.busy = true;
    this.problem = '';
    try {
      const run = await send('POST', '/estate/groundwork', { run: this.preview.run, work });
      onclose();
      router.go(`/estate/groundwork/${run.id}`);
    } catch (error) {
      this.#said(error);
    } finally {
      this.busy = false;
    }
  }
}
