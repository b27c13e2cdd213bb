import type { Me, Refusal } from './types';

/** What the service refused, with who, why and what next. */
export class ApiError extends Error {
  constructor(
    readonly refusal: Refusal,
    readonly status: number,
  ) {
    super(refusal.cause || refusal.code);
  }
}

let proof = '';
let told: (me: Me | null) => void = () => {};

/** Called when the service says who is logged in, or that nobody is any more. */
export function onMe(listener: (me: Me | null) => void) {
  told = listener;
}

async function answerOf<Answer>(response: Response): Promise<Answer> {
  const text = await response.text();
  let json: unknown;
  try {
    json = JSON.parse(text);
  } catch {
    throw new ApiError({ code: 'BadDecodingError', cause: text.slice(0, 200) || response.statusText, next: '' }, response.status);
  }
  if (response.ok) return json as Answer;
  const { error } = json as { error: Refusal };
  if (response.status === 401) told(null);
  throw new ApiError(error, response.status);
}

async function ask(path: string, options: RequestInit): Promise<Response> {
  try {
    return await fetch(path, { credentials: 'same-origin', ...options });
  } catch {
    throw new ApiError({ code: 'BadConnectionClosed', cause: 'the service does not answer', next: 'this page tries again by itself' }, 0);
  }
}

export type Query = Record<string, string | number | boolean | string[] | undefined>;

export function addressOf(path: string, query: Query = {}): string {
  const search = new URLSearchParams();
  for (const [name, value] of Object.entries(query))
    for (const one of Array.isArray(value) ? value : [value]) if (one !== undefined && one !== '') search.append(name, String(one));
  const text = search.toString();
  return `/api/${path}${text ? `?${text}` : ''}`;
}

export async function get<Answer>(path: string, query: Query = {}, signal?: AbortSignal): Promise<Answer> {
  return answerOf<Answer>(await ask(addressOf(path, query), signal ? { signal } : {}));
}

export async function post<Answer>(path: string, body: object = {}): Promise<Answer> {
  return answerOf<Answer>(
    await ask(`/api/${path}`, {
      method: 'POST',
      headers: { 'Content-Type': 'application/json', 'X-Zunth-Proof': proof },
      body: JSON.stringify(body),
    }),
  );
}

function take(me: Me): Me {
  proof = me.proof ?? '';
  told(me);
  return me;
}

export const fetchMe = async () => take(await get<Me>('me'));
export const logIn = async (user: string, password: string) => take(await post<Me>('login', { user, password }));
export const makeFirstUser = async (code: string, user: string, password: string) =>
  take(await post<Me>('first-user', { code, user, password }));
export async function logOut() {
  await post('logout');
  return fetchMe();
}
