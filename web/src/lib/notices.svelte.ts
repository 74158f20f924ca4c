/** Problems and news shown at the foot of the page until they are read. */
import { ApiError, type Problem } from './api/client';

class Notices {
  #list = $state.raw<{ id: number; problem: Problem }[]>([]);
  #next = 1;
  get list() {
    return this.#list;
  }
  problem(error: unknown) {
    if (error instanceof DOMException && error.name === 'AbortError') return;
    const problem =
      error instanceof ApiError
        ? error.problem
        : {
            code: 'page',
            title: 'A fault on this page',
            detail: String(error),
            hint: 'Reload the page. Saved data is not affected.',
            status: 0,
          };
    this.#list = [
      ...this.#list.filter((one) => one.problem.detail !== problem.detail).slice(-2),
      { id: this.#next++, problem },
    ];
  }
  /** News that is no fault. */
  say(title: string, detail: string) {
    this.problem(new ApiError({ code: 'news', title, detail, hint: '', status: 200 }));
  }
  drop(id: number) {
    this.#list = this.#list.filter((one) => one.id !== id);
  }
}

export const notices = new Notices();
