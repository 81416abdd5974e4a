/** The revisions of the design, and a draft of the next one with its check and its effects. */
import { api, reasonOf, type BlueprintFile, type Comparison, type RevisionView } from '$api/client';
import { Notice } from '$ui/notice.svelte';

/** How long typing has to pause before the draft is checked, milliseconds. */
const PAUSE = 400;

export class Design {
  #revisions = $state.raw<RevisionView[]>([]);
  #shown = $state.raw<RevisionView>();
  #comparison = $state.raw<Comparison>();
  #trouble = $state('');
  /** What became of the last change. */
  readonly notice = new Notice();
  #busy = $state(false);
  #timer: ReturnType<typeof setTimeout> | undefined;
  #asked = 0;
  /** The revision that the draft was made upon. */
  #base = $state(0);
  draft = $state<BlueprintFile[]>([]);
  /** Which file of it is seen. */
  file = $state(0);
  message = $state('');

  get revisions(): RevisionView[] {
    return this.#revisions;
  }

  /** The revision that is looked at. */
  get shown(): RevisionView | undefined {
    return this.#shown;
  }

  get comparison(): Comparison | undefined {
    return this.#comparison;
  }

  get base(): number {
    return this.#base;
  }

  /** Why the last look or check came to nothing. */
  get trouble(): string {
    return this.#trouble;
  }

  get busy(): boolean {
    return this.#busy;
  }

  get inForce(): number {
    return this.#revisions.find((revision) => revision.in_force)?.number ?? 0;
  }

  /** Whether the draft differs from the revision that it was made upon. */
  get isChanged(): boolean {
    return (this.#comparison?.changes.length ?? 0) > 0 || this.#comparison?.check.ready === false;
  }

  async load(): Promise<void> {
    await this.#list();
    await this.edit(this.inForce);
  }

  async #list(): Promise<void> {
    const { data, error } = await api.GET('/api/v1/blueprint/revisions');
    this.#revisions = data ?? this.#revisions;
    this.#trouble = data ? '' : reasonOf(error);
  }

  async #revision(number: number): Promise<RevisionView | undefined> {
    const { data } = await api.GET('/api/v1/blueprint/revisions/{number}', { params: { path: { number } } });
    return data;
  }

  /** Takes a revision's text as the draft; upon the one in force. */
  async edit(number: number): Promise<void> {
    const revision = number > 0 ? await this.#revision(number) : undefined;
    this.#shown = revision;
    this.draft = revision?.files.map((file) => ({ ...file })) ?? [
      { name: 'blueprint.toml', text: 'name = ""\n' },
    ];
    this.file = 0;
    this.#base = this.inForce;
    await this.check();
  }

  /** Adds lines to the end of the file that is seen. */
  async add(lines: string): Promise<void> {
    const file = this.draft[this.file];
    if (!file) return;
    file.text = `${file.text.trimEnd()}\n\n${lines}`;
    await this.check();
  }

  /** Checks when typing pauses. */
  typed(): void {
    this.notice.clear();
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => void this.check(), PAUSE);
  }

  stop(): void {
    clearTimeout(this.#timer);
  }

  async check(): Promise<void> {
    const asked = ++this.#asked;
    const { data, error } = await api.POST('/api/v1/blueprint/compare', { body: { files: this.draft } });
    if (asked !== this.#asked) return;
    this.#comparison = data ?? this.#comparison;
    this.#trouble = data ? '' : reasonOf(error);
  }

  async apply(): Promise<void> {
    await this.#change(async () => {
      const body = { files: this.draft, base: this.#base, message: this.message };
      return api.POST('/api/v1/blueprint/revisions', { body });
    });
  }

  async revert(number: number): Promise<void> {
    await this.#change(async () => {
      const params = { path: { number } };
      const body = { base: this.inForce, message: this.message };
      return api.POST('/api/v1/blueprint/revisions/{number}/revert', { params, body });
    });
  }

  async #change(call: () => Promise<{ data?: RevisionView; error?: unknown }>): Promise<void> {
    this.#busy = true;
    this.notice.clear();
    try {
      const { data, error } = await call();
      if (data) {
        this.message = '';
        await this.load();
        this.notice.tell(`Revision ${data.number} is in force.`, error, true);
      } else {
        const notReady = error && typeof error === 'object' && 'proofs' in error;
        if (notReady) {
          this.notice.refuse('Not applied: the draft has errors or failing proofs. Nothing was changed.');
        } else {
          this.notice.tell('', error, false);
        }
        await this.#list();
      }
    } catch (error) {
      this.notice.tell('', error, false);
    }
    this.#busy = false;
  }
}
