/** One rollout: its plan, its newest run, what is selected, and everything a person may do. */
import { createSubscriber } from 'svelte/reactivity';
import { ApiError, get, send } from '../../lib/api/client';
import type { Edit, PlanView, RunView, Started } from '../../lib/api/types';
import { merged } from '../../lib/merge';
import { notices } from '../../lib/notices.svelte';

export type Progress = Record<string, { sent?: number; total?: number; rate?: number; tries?: number; left_s?: number }>;

export class Rollout {
  readonly id: string;
  #plan = $state.raw<PlanView | null>(null);
  #run = $state.raw<RunView | null>(null);
  #progress = $state.raw<Progress>({});
  #clash = $state.raw<{ edits: Edit[]; from: number; problem: string } | null>(null);
  #busy = $state(0);
  #offset = 0;
  #past: number[] = [];
  #future: number[] = [];
  #queue: Promise<unknown> = Promise.resolve();
  #live: () => void = () => undefined;
  #source: EventSource | null = null;
  /** Milliseconds between two readings: large runs are read less often. */
  #pace = 250;
  #timer: ReturnType<typeof setTimeout> | undefined;

  constructor(id: string) {
    this.id = id;
    this.#live = createSubscriber(() => { this.#open(); return () => this.#close(); });
  }
  get plan() { return this.#plan; }
  get run() { this.#live(); return this.#run; }
  get progress() { return this.#progress; }
  get busy() { return this.#busy > 0; }
  get canUndo() { return this.#past.length > 0; }
  get canRedo() { return this.#future.length > 0; }
  /** The server's clock, in epoch seconds. */
  now() { return Date.now() / 1000 + this.#offset; }

  async load(runId?: string) {
    await this.#work(async () => {
      const plan = await get<PlanView>(`/plans/${this.id}`);
      this.#plan = plan;
      const id = runId || plan.runs[0]?.id;
      if (id) await this.#readRun(id);
    });
  }

  /** Edits go one after the other; each answer brings all consequences. */
  edit(edits: Edit[]) {
    return this.#change(async (plan) => {
      try { return merged(plan, await send<PlanView>('PATCH', `/plans/${this.id}?known=${plan.tag}`, { version: plan.version, edits })); } catch (error) {
        if (error instanceof ApiError && error.problem.code === 'plan-changed') this.#clash = { edits, from: plan.version, problem: error.problem.detail };
        throw error;
      }
    });
  }
  /** An edit that met somebody else's at the same place: kept until a person decides. */
  get clash() { return this.#clash; }
  settle(mine: boolean) { const kept = this.#clash; this.#clash = null; return mine && kept ? this.edit(kept.edits) : Promise.resolve(true); }
  secret(node: string, column: string, value: string) { return this.#change((plan) => send<PlanView>('POST', `/plans/${this.id}/secret`, { version: plan.version, node, column, value })); }
  /** A certificate with its key (both empty: made here); what was wrong with it, null when it was taken. */
  async pair(node: string, column: string, certificate: string, key: string): Promise<ApiError | null> {
    let wrong: ApiError | null = null;
    await this.#change(async (plan) => {
      try { return await send<PlanView>('POST', `/plans/${this.id}/pair`, { version: plan.version, node, column, certificate, key }); } catch (error) {
        if (!(error instanceof ApiError)) throw error;
        wrong = error;
        return plan;
      }
    });
    return wrong;
  }
  /** A secret that keeps the column's rule; '' when none could be made. Kept nowhere yet. */
  async make(column: string): Promise<string> { try { return (await send<{ value: string }>('POST', `/plans/${this.id}/secret/make?column=${encodeURIComponent(column)}`)).value; } catch (error) { notices.problem(error); return ''; } }
  licence(by: string) { return this.#change((plan) => send<PlanView>('POST', `/plans/${this.id}/licence`, { version: plan.version, by })); }
  undo() { return this.#restore(this.#past, this.#future); }
  redo() { return this.#restore(this.#future, this.#past); }
  check() { return this.#work(async () => { this.#plan = await send<PlanView>('POST', `/plans/${this.id}/check`); }); }

  /** Starts the run; the id, or '' when blockers stand in the way (they are then in the plan). */
  async start(): Promise<string> {
    let id = '';
    await this.#work(async () => {
      const started = await send<Started>('POST', `/plans/${this.id}/run`);
      this.#plan = started.plan;
      id = started.run;
      if (id) { await this.#readRun(id); this.#close(); this.#open(); }
    });
    return id;
  }

  wish(wish: string, body: unknown = {}) {
    return this.#work(async () => { if (this.#run) this.#take(await send<RunView>('POST', `/runs/${this.#run.id}/${wish}`, body)); });
  }

  #change(change: (plan: PlanView) => Promise<PlanView>): Promise<boolean> {
    const next = this.#queue.then(() => this.#work(async () => {
      if (!this.#plan) return;
      const before = this.#plan.version;
      this.#plan = await change(this.#plan);
      if (this.#plan.version !== before) { this.#past.push(before); this.#future.length = 0; }
    }));
    this.#queue = next;
    return next;
  }

  #restore(from: number[], to: number[]): Promise<boolean> {
    return this.#work(async () => {
      const version = from.pop();
      if (!this.#plan || version === undefined) return;
      to.push(this.#plan.version);
      this.#plan = await send<PlanView>('POST', `/plans/${this.id}/restore/${version}`);
    });
  }

  async #work(task: () => Promise<void>): Promise<boolean> {
    this.#busy++;
    try { await task(); return true; } catch (error) {
      if (!(error instanceof ApiError && error.problem.code === 'plan-changed')) notices.problem(error);
      try { this.#plan = await get<PlanView>(`/plans/${this.id}`); } catch { /* the first problem says enough */ }
      return false;
    } finally { this.#busy--; }
  }

  #take(run: RunView) { this.#offset = run.now - Date.now() / 1000; this.#run = run; }
  async #readRun(id: string) { this.#take(await get<RunView>(`/runs/${id}`)); }

  #open() {
    const run = this.#run;
    if (!run || this.#source) return;
    const source = new EventSource(`/api/runs/${run.id}/events?after=${run.last_event}`);
    source.addEventListener('journal', () => {
      if (this.#timer) return;
      this.#timer = setTimeout(() => { this.#timer = undefined; const began = performance.now(); void this.#readRun(run.id).catch(() => undefined).finally(() => { this.#pace = Math.max(250, 4 * (performance.now() - began)); }); }, this.#pace);
    });
    source.addEventListener('progress', (event) => { this.#progress = JSON.parse((event as MessageEvent<string>).data) as Progress; });
    this.#source = source;
  }
  #close() { this.#source?.close(); this.#source = null; clearTimeout(this.#timer); this.#timer = undefined; }
  /** The stream is opened once there is a run to watch. */
  watch() { if (this.#run && !this.#source) this.#open(); }
  dispose() { this.#close(); }
}
