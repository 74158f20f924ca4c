/** One rollout: its plan, its newest run, what is selected, and everything a person may do. */
import { createSubscriber } from 'svelte/reactivity';
import { ApiError, get, send, sessionEnded } from '../../lib/api/client';
import type { Body, RunBody } from '../../lib/api/paths';
import type { Edit, PlanView, RunDelta, RunView } from '../../lib/api/types';
import { connection } from '../../lib/connection.svelte';
import { keepDraft, readDraft } from '../../lib/draft';
import { merged } from '../../lib/merge';
import { applied } from './changes';
import { notices } from '../../lib/notices.svelte';

export type Progress = Record<
  string,
  {
    sent?: number;
    total?: number;
    rate?: number;
    tries?: number;
    left_s?: number;
    lost?: string;
    words?: string;
  }
>;

const ENDED = ['done', 'unproved', 'undone'];
/** The newest run that stands, else the newest: a change that was rolled back hides nothing. */
const newest = (plan: PlanView) => plan.runs.find((run) => run.state !== 'undone') ?? plan.runs[0];

type StartBody = NonNullable<Body<'post', `/plans/${string}/run`>>;

export class Rollout {
  readonly id: string;
  #plan = $state.raw<PlanView | null>(null);
  #run = $state.raw<RunView | null>(null);
  #progress = $state.raw<Progress>({});
  /** The plan as it would be with what is being typed or dragged; kept nowhere. */
  #tried = $state.raw<PlanView | null>(null);
  #attempt = 0;
  #attemptTimer: ReturnType<typeof setTimeout> | undefined;
  #clash = $state.raw<{ edits: Edit[]; from: number; problem: string } | null>(null);
  #busy = $state(0);
  #offset = 0;
  /** Versions this page made, and those that took one back: what undo and redo take back next. */
  #past = $state.raw<number[]>([]);
  #future = $state.raw<number[]>([]);
  #queue: Promise<unknown> = Promise.resolve();
  #live: () => void = () => undefined;
  #source: EventSource | null = null;
  /** Edits that were made and that the server has not answered yet; kept over a reload. */
  #unsent = $state.raw<Edit[][]>([]);
  /** What a check waits for, in words. */
  #reading = $state('');
  #stop: () => void = () => undefined;

  constructor(id: string) {
    this.id = id;
    this.#live = createSubscriber(() => {
      this.#open();
      return () => this.#close();
    });
    this.#stop = connection.onBack(() => {
      void this.#comeBack();
    });
  }
  get plan() {
    return this.#tried ?? this.#plan;
  }
  get trying() {
    return this.#tried !== null;
  }
  get run() {
    this.#live();
    return this.#run;
  }
  get progress() {
    return this.#progress;
  }
  get busy() {
    return this.#busy > 0;
  }
  get canUndo() {
    return this.#past.length > 0;
  }
  get canRedo() {
    return this.#future.length > 0;
  }
  /** How many edits wait to be sent. */
  get unsent() {
    return this.#unsent.length;
  }
  get unsentEdits() {
    return this.#unsent;
  }
  get reading() {
    return this.#reading;
  }
  /** The server's clock, in epoch seconds; it stands still while the server is silent. */
  now() {
    return connection.now() / 1000 + this.#offset;
  }

  async load(runId?: string) {
    await this.#work(async () => {
      const plan = await get(`/plans/${this.id}`);
      this.#plan = plan;
      const id = runId || newest(plan)?.id;
      if (id) await this.#readRun(id);
    });
    await this.#sendLeft();
  }
  /** Edits that an earlier life of this page could not send. */
  async #sendLeft() {
    const left = readDraft(`edits ${this.id}`);
    if (!left || this.#unsent.length) return;
    keepDraft(`edits ${this.id}`, '');
    for (const edits of JSON.parse(left) as Edit[][]) await this.edit(edits);
  }
  #keep(unsent: Edit[][]) {
    this.#unsent = unsent;
    keepDraft(`edits ${this.id}`, unsent.length ? JSON.stringify(unsent) : '');
  }
  /** After a silence everything is read anew: it may have changed meanwhile. */
  async #comeBack() {
    try {
      if (!this.#unsent.length) this.#plan = await get(`/plans/${this.id}`);
      const id = this.#run?.id ?? (this.#plan ? newest(this.#plan)?.id : undefined);
      if (id) await this.#readRun(id);
      this.#close();
      this.#open();
    } catch {
      /* the next silence or edit says it */
    }
  }

  /** Edits go one after the other; each answer brings all consequences. */
  edit(edits: Edit[]) {
    this.#keep([...this.#unsent, edits]);
    return this.#change(async (plan) => {
      try {
        return await this.#sent(plan, edits);
      } catch (error) {
        if (error instanceof ApiError && error.problem.code === 'plan-changed')
          this.#clash = { edits, from: plan.version, problem: error.problem.detail };
        throw error;
      } finally {
        this.#keep(this.#unsent.filter((one) => one !== edits));
      }
    });
  }
  /** Sends edits, again as soon as the server answers when it was silent. They are what they are: sent twice, they change nothing the second time. */
  async #sent(plan: PlanView, edits: Edit[]): Promise<PlanView> {
    let at = plan;
    for (;;) {
      try {
        return merged(
          at,
          await send('PATCH', `/plans/${this.id}?known=${at.tag}`, {
            version: at.version,
            edits,
          }),
        );
      } catch (error) {
        if (!(error instanceof ApiError && error.problem.code === 'offline')) throw error;
        connection.lost();
        await connection.whenBack();
        at = await get(`/plans/${this.id}`);
      }
    }
  }
  /** Shows what edits would bring while they are still being typed or dragged; null gives them up. Only the newest counts. */
  attempt(edits: Edit[] | null) {
    const mine = ++this.#attempt;
    clearTimeout(this.#attemptTimer);
    if (!edits) {
      this.#tried = null;
      return;
    }
    this.#attemptTimer = setTimeout(
      () =>
        void this.#queue.then(async () => {
          // after an edit that is still on its way
          const plan = this.#plan;
          if (!plan || mine !== this.#attempt) return;
          try {
            const found = await send('POST', `/plans/${this.id}/try?known=${plan.tag}`, {
              version: plan.version,
              edits,
            });
            if (mine === this.#attempt && this.#plan === plan) this.#tried = merged(plan, found);
          } catch {
            if (mine === this.#attempt) this.#tried = null;
          } // a half-typed value may be no value yet; keeping it will say so
        }),
      80,
    );
  }
  /** An edit that met somebody else's at the same place: kept until a person decides. */
  get clash() {
    return this.#clash;
  }
  settle(mine: boolean) {
    const kept = this.#clash;
    this.#clash = null;
    return mine && kept ? this.edit(kept.edits) : Promise.resolve(true);
  }
  secret(node: string, column: string, value: string) {
    return this.#change((plan) =>
      send('POST', `/plans/${this.id}/secret`, {
        version: plan.version,
        node,
        column,
        value,
      }),
    );
  }
  /** Another secret or certificate for the whole plan; deployed nodes get it with the next run. */
  renew(column: string) {
    return this.#change((plan) =>
      send('POST', `/plans/${this.id}/renewal`, { version: plan.version, column }),
    );
  }
  /** A certificate with its key (both empty: made here); what was wrong with it, null when it was taken. */
  async pair(
    node: string,
    column: string,
    certificate: string,
    key: string,
  ): Promise<ApiError | null> {
    let wrong: ApiError | null = null;
    await this.#change(async (plan) => {
      try {
        return await send('POST', `/plans/${this.id}/pair`, {
          version: plan.version,
          node,
          column,
          certificate,
          key,
        });
      } catch (error) {
        if (!(error instanceof ApiError)) throw error;
        wrong = error;
        return plan;
      }
    });
    return wrong;
  }
  /** A secret that keeps the column's rule; '' when none could be made. Kept nowhere yet. */
  async make(column: string): Promise<string> {
    try {
      return (
        await send('POST', `/plans/${this.id}/secret/make?column=${encodeURIComponent(column)}`)
      ).value;
    } catch (error) {
      notices.problem(error);
      return '';
    }
  }
  licence(by: string) {
    return this.#change((plan) =>
      send('POST', `/plans/${this.id}/licence`, { version: plan.version, by }),
    );
  }
  undo() {
    return this.#takeBack(
      () => this.#past,
      (past, made) => {
        this.#past = past;
        if (made) this.#future = [...this.#future, made];
      },
    );
  }
  redo() {
    return this.#takeBack(
      () => this.#future,
      (future, made) => {
        this.#future = future;
        if (made) this.#past = [...this.#past, made];
      },
    );
  }
  check() {
    return this.#work(() =>
      this.#telling(async () => {
        this.#plan = await send('POST', `/plans/${this.id}/check`);
      }),
    );
  }
  /** Says which hosts are waited for as long as something reads them. */
  async #telling(task: () => Promise<void>): Promise<void> {
    const timer = setInterval(
      () =>
        void get('/estate/reading')
          .then((found) => {
            const slow = found[0];
            this.#reading = found.length ? `reading ${found.length} hosts` : '';
            if (slow && slow.seconds > 1.5) {
              const left = found.length > 1 ? ` (${found.length} hosts left)` : '';
              this.#reading = `waiting for ${slow.host}, ${Math.round(slow.seconds)} s${left}`;
            }
          })
          .catch(() => undefined),
      1000,
    );
    try {
      await task();
    } finally {
      clearInterval(timer);
      this.#reading = '';
    }
  }

  /** Starts the run; `wanted`: what it may do to nodes that are deployed. The id, or '' when blockers stand in the way (they are then in the plan). */
  async start(wanted: StartBody = {}): Promise<string> {
    let id = '';
    await this.#work(() =>
      this.#telling(async () => {
        const started = await send('POST', `/plans/${this.id}/run`, wanted);
        this.#plan = started.plan;
        id = started.run;
        if (id) {
          await this.#readRun(id);
          this.#close();
          this.#open();
        }
      }),
    );
    return id;
  }

  request(request: string, body: RunBody = {}) {
    return this.#work(async () => {
      if (this.#run) this.#take(await send('POST', `/runs/${this.#run.id}/${request}`, body));
    });
  }

  #change(change: (plan: PlanView) => Promise<PlanView>): Promise<boolean> {
    const next = this.#queue.then(() =>
      this.#work(async () => {
        if (!this.#plan) return;
        this.#attempt++;
        const before = this.#plan.version;
        try {
          this.#plan = await change(this.#plan);
        } finally {
          this.#tried = null;
        }
        if (this.#plan.version !== before) {
          this.#past = [...this.#past, this.#plan.version];
          this.#future = [];
        }
      }),
    );
    this.#queue = next;
    return next;
  }

  /** Takes back the newest change of a list; `then` is told what is left of it and the version that came of it: none where somebody changed the same since, for
   *  such a change can be taken back no more and is not to stand before earlier ones. */
  #takeBack(list: () => number[], then: (left: number[], made?: number) => void): Promise<boolean> {
    const next = this.#queue.then(() =>
      this.#work(async () => {
        const version = list().at(-1);
        if (!this.#plan || version === undefined) return;
        try {
          this.#plan = merged(
            this.#plan,
            await send(
              'POST',
              `/plans/${this.id}/take-back/${String(version)}?known=${this.#plan.tag}`,
            ),
          );
        } catch (error) {
          if (error instanceof ApiError && error.problem.code === 'changed-since')
            then(list().slice(0, -1));
          throw error;
        }
        then(list().slice(0, -1), this.#plan.version);
      }),
    );
    this.#queue = next;
    return next;
  }

  async #work(task: () => Promise<void>): Promise<boolean> {
    this.#busy++;
    try {
      await task();
      return true;
    } catch (error) {
      if (!(error instanceof ApiError && error.problem.code === 'plan-changed'))
        notices.problem(error);
      try {
        this.#plan = await get(`/plans/${this.id}`);
      } catch {
        /* the first problem says enough */
      }
      return false;
    } finally {
      this.#busy--;
    }
  }

  /** Answers may overtake each other; an older one is not shown over a newer one. */
  #take(run: RunView) {
    if (this.#run?.id === run.id && run.last_event < this.#run.last_event) return;
    this.#offset = run.now - Date.now() / 1000;
    const before = this.#run;
    this.#run = run;
    // what stands is known again when a run has ended, and its page says what the plan would change
    if (before?.id === run.id && before.state !== run.state && ENDED.includes(run.state))
      void this.#planAgain();
  }
  async #planAgain() {
    try {
      const plan = await get(`/plans/${this.id}`);
      // an edit that was made meanwhile brings its own answer
      if (!this.#unsent.length && plan.version >= (this.#plan?.version ?? 0)) this.#plan = plan;
    } catch {
      /* the next silence or edit says it */
    }
  }
  #apply(delta: RunDelta) {
    const run = this.#run;
    if (!run) return;
    const next = applied(run, delta);
    if (next) this.#take(next);
    else void this.#readRun(run.id).catch(() => undefined);
  }
  async #readRun(id: string) {
    this.#take(await get(`/runs/${id}`));
  }

  #open() {
    const run = this.#run;
    if (!run || this.#source) return;
    const source = new EventSource(`/api/runs/${run.id}/changes?after=${run.last_event}`);
    source.addEventListener('change', (event) => {
      this.#apply(JSON.parse((event as MessageEvent<string>).data) as RunDelta);
    });
    source.addEventListener('again', () => {
      void this.#readRun(run.id).catch(() => undefined);
    });
    source.addEventListener('signed-out', () => {
      this.#close();
      void sessionEnded().then(() => this.#comeBack());
    });
    source.addEventListener('progress', (event) => {
      this.#progress = JSON.parse((event as MessageEvent<string>).data) as Progress;
    });
    this.#source = source;
  }
  #close() {
    this.#source?.close();
    this.#source = null;
  }
  /** The stream is opened once there is a run to watch. */
  watch() {
    if (this.#run && !this.#source) this.#open();
  }
  dispose() {
    this.#close();
    this.#stop();
    this.attempt(null);
  }
}
