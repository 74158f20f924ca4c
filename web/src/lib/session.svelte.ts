/** The session ended in the middle of something: who waits for a sign-in, and when it may be asked for. */
import { onSessionEnded } from './api/client';

/** Who types is not interrupted: the dialog comes when no key was pressed for so long. */
const QUIET_MS = 900;

class Session {
  #waiting: (() => void)[] = [];
  #typedAt = 0;
  #timer: ReturnType<typeof setTimeout> | undefined;
  /** Whether the sign-in dialog is open. */
  asking = $state(false);

  constructor() {
    onSessionEnded(
      () =>
        new Promise((resolve) => {
          this.#waiting.push(resolve);
          this.#ask();
        }),
    );
  }
  /** A key was pressed. */
  typed(): void {
    this.#typedAt = performance.now();
  }
  signedIn(): void {
    const waiting = this.#waiting;
    this.#waiting = [];
    this.asking = false;
    for (const go of waiting) go();
  }
  #ask(): void {
    if (this.asking) return;
    clearTimeout(this.#timer);
    const left = this.#typedAt ? this.#typedAt + QUIET_MS - performance.now() : 0;
    if (left <= 0) this.asking = true;
    else this.#timer = setTimeout(() => this.#ask(), left);
  }
}

export const session = new Session();
