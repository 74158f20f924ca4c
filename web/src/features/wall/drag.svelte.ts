/** A node taken from one column of the wall to another. */
import { type Part, type Picture, type Place } from './wall';

interface Wanted {
  picture: () => Picture;
  places: () => Place[];
  box: () => DOMRect | undefined;
  over: (part: Part, to: Place | null) => void;
  drop: (part: Part, to: Place) => void;
}

/** The pointer moves this many pixels before a node is lifted. */
const SLACK = 5;

export class Drag {
  now = $state.raw<{ node: string; x: number; y: number; over: string } | null>(null);
  #wanted: Wanted;

  constructor(wanted: Wanted) {
    this.#wanted = wanted;
  }
  begin(event: PointerEvent, part: Part): void {
    const start = { x: event.clientX, y: event.clientY };
    const place = (name: string) => this.#wanted.places().find((one) => one.name === name) ?? null;
    const move = (e: PointerEvent) => {
      if (!this.now && Math.hypot(e.clientX - start.x, e.clientY - start.y) < SLACK) return;
      const box = this.#wanted.box();
      const x = e.clientX - (box?.left ?? 0),
        y = e.clientY - (box?.top ?? 0);
      const column = this.#wanted
        .picture()
        .columns.find((c) => x >= c.x && x <= c.x + c.w && y >= c.top - 20 && y <= c.base + 30);
      const over = column?.host.name ?? '';
      if (over !== (this.now?.over ?? part.host))
        this.#wanted.over(part, over === part.host ? null : place(over));
      this.now = { node: part.id, x, y, over };
    };
    const end = () => {
      removeEventListener('pointermove', move);
      removeEventListener('keydown', escape);
      this.now = null;
    };
    const up = () => {
      const lifted = this.now;
      end();
      const to = lifted && lifted.over !== part.host ? place(lifted.over) : null;
      if (to) this.#wanted.drop(part, to);
      else if (lifted) this.#wanted.over(part, null);
    };
    const escape = (e: KeyboardEvent) => {
      if (e.key !== 'Escape' || !this.now) return;
      removeEventListener('pointerup', up);
      end();
      this.#wanted.over(part, null);
    };
    addEventListener('pointermove', move);
    addEventListener('pointerup', up, { once: true });
    addEventListener('keydown', escape);
  }
}
