/** Sending a package: progress, rate and remaining time, and a way to stop. */
import { csrfToken, parseProblem, type Problem } from '../../lib/api/client';
import type { PackageView } from '../../lib/api/types';

export class Upload {
  readonly name: string;
  readonly total: number;
  #sent = $state(0);
  #began = performance.now();
  #rate = $state(0);
  #problem = $state.raw<Problem | null>(null);
  #state = $state<'sending' | 'verifying' | 'done' | 'failed' | 'stopped'>('sending');
  #request = new XMLHttpRequest();

  constructor(file: File, done: (view: PackageView) => void) {
    this.name = file.name;
    this.total = file.size;
    const request = this.#request;
    request.open('POST', `/api/packages?name=${encodeURIComponent(file.name)}`);
    request.setRequestHeader('X-CSRF-Token', csrfToken());
    request.upload.onprogress = (event) => { this.#sent = event.loaded; this.#rate = event.loaded / Math.max(0.05, (performance.now() - this.#began) / 1000); };
    request.upload.onload = () => { this.#sent = this.total; if (this.#state === 'sending') this.#state = 'verifying'; };
    request.onload = () => {
      if (request.status < 400) { this.#state = 'done'; done(JSON.parse(request.responseText) as PackageView); } else this.#fail(parseProblem(request.responseText, request.status));
    };
    request.onerror = () => this.#fail({ code: 'offline', title: 'Broken off', detail: `Sending ${file.name} broke off.`, hint: 'Send it again; nothing of it was kept.', status: 0 });
    request.onabort = () => { this.#state = 'stopped'; };
    request.send(file);
  }
  get sent() { return this.#sent; }
  get state() { return this.#state; }
  get problem() { return this.#problem; }
  get rate() { return this.#rate; }
  get left() { return this.#rate ? (this.total - this.#sent) / this.#rate : 0; }
  stop() { this.#request.abort(); }
  #fail(problem: Problem) { this.#state = 'failed'; this.#problem = problem; }
}
