/** Many plans from one table, as far as they are typed: what the server makes of them, and making them. */
import { get, send } from '../../lib/api/client';
import type { ManyView, RoleChoices } from '../../lib/api/types';
import { keepDraft, readDraft } from '../../lib/draft';
import { notices } from '../../lib/notices.svelte';
import { startRuns } from './starting';
import { withColumn } from './table';

const LATER_MS = 250;

export class Many {
  kit = $state('');
  bay = $state('');
  pack = $state('');
  text = $state(readDraft('many'));
  /** A file's bytes in Base64, and its name; '' where the text counts. */
  file = $state('');
  name = $state('');
  include = $state.raw<string[]>([]);
  /** Who accepts the licences of all plans; whether passwords nobody gave are made. */
  by = $state('');
  passwords = $state(true);
  answer = $state.raw<ManyView | null>(null);
  busy = $state(false);
  fitting = $state.raw<RoleChoices | undefined>();
  #asked = 0;
  #timer: ReturnType<typeof setTimeout> | undefined;

  constructor(kit: string, bay: string) {
    this.kit = kit;
    this.bay = bay;
  }
  good = $derived((this.answer?.plans ?? []).filter((one) => !one.faults.length));
  blocked = $derived(this.good.filter((one) => one.blockers.length).length);
  /** Every row is a plan. */
  whole = $derived(this.good.length > 0 && this.good.length === this.answer?.plans.length);

  /** What plans of the chosen kit can be made from. */
  async choices(): Promise<void> {
    const kit = this.kit;
    if (!kit) return;
    try {
      const found = await get(`/kits/${kit}/packages`);
      if (kit !== this.kit) return;
      this.fitting = found.find((one) => one.role === '');
      this.pack = this.fitting?.usual ?? '';
      this.later();
    } catch (error) {
      notices.problem(error);
    }
  }
  #body(make: boolean) {
    const { text, file, kit, bay, include, passwords } = this;
    return {
      text,
      file,
      kit,
      bay,
      package: this.pack,
      include,
      make,
      passwords,
      licence_by: this.by,
    };
  }
  async look(): Promise<void> {
    keepDraft('many', this.text);
    const own = ++this.#asked;
    if (!this.text.trim() && !this.file) {
      this.answer = null;
      return;
    }
    this.busy = true;
    try {
      const found = await send('POST', '/plans/table', this.#body(false));
      if (own === this.#asked) this.answer = found;
    } catch (error) {
      if (own !== this.#asked) return;
      this.answer = null;
      notices.problem(error);
    } finally {
      if (own === this.#asked) this.busy = false;
    }
  }
  later(): void {
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => void this.look(), LATER_MS);
  }
  /** Makes all plans; their names, none where that failed. */
  async make(): Promise<string[]> {
    this.busy = true;
    try {
      this.answer = await send('POST', '/plans/table', this.#body(true));
      this.text = '';
      this.file = '';
      keepDraft('many', '');
      return this.answer.made;
    } catch (error) {
      notices.problem(error);
      return [];
    } finally {
      this.busy = false;
    }
  }
  /** Runs plans that were created; whether any run was started. */
  async run(plans: string[]): Promise<boolean> {
    this.busy = true;
    try {
      return await startRuns(plans);
    } catch (error) {
      notices.problem(error);
      return false;
    } finally {
      this.busy = false;
    }
  }
  async take(file: File): Promise<void> {
    this.name = file.name;
    this.file = await new Promise<string>((resolve, reject) => {
      const reader = new FileReader();
      reader.onload = () => resolve(String(reader.result).split(',')[1] ?? '');
      reader.onerror = () => reject(new Error('not readable'));
      reader.readAsDataURL(file);
    });
    this.text = '';
    await this.look();
  }
  typed(): void {
    this.file = '';
    this.name = '';
    this.later();
  }
  /** A column for a question that is not answered, empty in every row. */
  ask(column: string): void {
    this.text = withColumn(this.text, column);
    this.later();
  }
}
