/** Who may connect: the identities that match a search, the one that is being edited, its tokens. */
import { api, type AuthorityView, type IdentityView, type TokenView } from '$api/client';
import { Notice } from '$ui/notice.svelte';

/** Identities that are listed at most. */
export const LISTED = 500;

type Value = string | number | boolean;

/** One line for each attribute, as it is edited. */
function lines(attributes: Record<string, unknown>): string {
  return Object.entries(attributes)
    .map(([name, value]) => `${name}=${String(value)}`)
    .join('\n');
}

/** The value that a text looks like. */
function value(text: string): Value {
  if (text === 'true' || text === 'false') return text === 'true';
  const number = Number(text);
  return text.trim() !== '' && Number.isFinite(number) ? number : text;
}

/** An identity as it is edited. */
export class Draft {
  readonly isNew: boolean;
  name = $state('');
  attributes = $state('');
  enabled = $state(true);
  note = $state('');
  clientId = $state('');
  certificates = $state('');
  password = $state('');

  constructor(known?: IdentityView) {
    this.isNew = known === undefined;
    if (!known) return;
    this.name = known.name;
    this.attributes = lines(known.attributes);
    this.enabled = known.enabled;
    this.note = known.note;
    this.clientId = known.client_id ?? '';
    this.certificates = known.certificates?.join('\n') ?? '';
  }

  /** What is to be sent, or the line that is no attribute. */
  body() {
    const attributes: Record<string, Value> = {};
    for (const line of this.attributes.split('\n').filter((line) => line.trim() !== '')) {
      const at = line.indexOf('=');
      if (at < 1)
        return { wrong: `“${line}” is not an attribute; write name=value, for example reach=gorge` };
      attributes[line.slice(0, at).trim()] = value(line.slice(at + 1).trim());
    }
    const marks = this.certificates.split('\n').map((line) => line.trim());
    return {
      attributes,
      enabled: this.enabled,
      note: this.note,
      client_id: this.clientId === '' ? null : this.clientId,
      certificates: marks.filter((mark) => mark !== ''),
      password: this.password === '' ? null : this.password,
    };
  }
}

export class Identities {
  #list = $state.raw<IdentityView[]>([]);
  #authorities = $state.raw<AuthorityView[]>([]);
  #tokens = $state.raw<TokenView[]>([]);
  #draft = $state.raw<Draft>();
  #newToken = $state('');
  readonly notice = new Notice();
  #asked = 0;
  search = $state('');

  get list(): IdentityView[] {
    return this.#list;
  }

  get authorities(): AuthorityView[] {
    return this.#authorities;
  }

  /** The tokens of the identity that is being edited. */
  get tokens(): TokenView[] {
    return this.#tokens;
  }

  /** The identity that is being edited, if one is. */
  get draft(): Draft | undefined {
    return this.#draft;
  }

  /** The token that was made last, for as long as its identity is being edited. */
  get newToken(): string {
    return this.#newToken;
  }

  /** Looks for what matches; of several searches only the last counts. */
  async look(): Promise<void> {
    const asked = ++this.#asked;
    const query = { search: this.search, limit: LISTED };
    const [identities, authorities] = await Promise.all([
      api.GET('/api/v1/identities', { params: { query } }),
      api.GET('/api/v1/authorities'),
    ]);
    if (asked !== this.#asked) return;
    this.#list = identities.data ?? this.#list;
    this.#authorities = authorities.data ?? this.#authorities;
    if (identities.error) this.notice.tell('', identities.error, false);
  }

  begin(): void {
    this.#open(new Draft());
  }

  async edit(identity: IdentityView): Promise<void> {
    this.#open(new Draft(identity));
    await this.#lookAtTokens();
  }

  close(): void {
    this.#open(undefined);
  }

  #open(draft?: Draft): void {
    this.#draft = draft;
    this.#tokens = [];
    this.#newToken = '';
    this.notice.clear();
  }

  async #lookAtTokens(): Promise<void> {
    const name = this.#draft?.name;
    if (name === undefined) return;
    const { data } = await api.GET('/api/v1/identities/{name}/tokens', { params: { path: { name } } });
    if (this.#draft?.name === name) this.#tokens = data ?? [];
  }

  async save(): Promise<void> {
    const draft = this.#draft;
    const body = draft?.body();
    if (!draft || !body) return;
    if ('wrong' in body) {
      this.notice.refuse(body.wrong ?? '');
      return;
    }
    const path = { name: draft.name };
    const { data, error } = await api.PUT('/api/v1/identities/{name}', { params: { path }, body });
    if (data) await this.edit(data);
    this.notice.tell(
      draft.isNew ? `${draft.name} created.` : `${draft.name} changed.`,
      error,
      data !== undefined,
    );
    await this.look();
  }

  async remove(): Promise<void> {
    const name = this.#draft?.name ?? '';
    const { response, error } = await api.DELETE('/api/v1/identities/{name}', { params: { path: { name } } });
    if (response.ok) this.close();
    this.notice.tell(`${name} removed; its sessions have ended.`, error, response.ok);
    await this.look();
  }

  /** Makes a token that lives for so many days. */
  async makeToken(name: string, days: number): Promise<void> {
    const path = { name: this.#draft?.name ?? '' };
    const body = { name, seconds: days * 86_400 };
    const { data, error } = await api.POST('/api/v1/identities/{name}/tokens', { params: { path }, body });
    this.#newToken = data?.token ?? '';
    this.notice.tell('', error, data !== undefined);
    await this.#lookAtTokens();
  }

  async revokeToken(token: string): Promise<void> {
    const path = { name: this.#draft?.name ?? '', token };
    const { response, error } = await api.DELETE('/api/v1/identities/{name}/tokens/{token}', {
      params: { path },
    });
    this.#newToken = '';
    this.notice.tell(`Token ${token} revoked.`, error, response.ok);
    await this.#lookAtTokens();
  }

  /** Trusts an authority; gives whether it is trusted. */
  async trust(name: string, pem: string): Promise<boolean> {
    const { data, error } = await api.POST('/api/v1/authorities', { body: { name, pem } });
    const done = this.notice.tell(
      `${name} added; it is trusted from the next connection on.`,
      error,
      data !== undefined,
    );
    await this.look();
    return done;
  }

  async distrust(name: string): Promise<void> {
    const { response, error } = await api.DELETE('/api/v1/authorities/{name}', {
      params: { path: { name } },
    });
    this.notice.tell(`${name} is no longer trusted.`, error, response.ok);
    await this.look();
  }
}
