/** The one place that fetches. Answers are values or a Problem with what to do; nothing else is thrown. */
import type { Answer, Body } from './paths';
import type { components } from './schema.gen';

type Schemas = components['schemas'];

export type Problem = Pick<Schemas['Problem'], 'code' | 'title' | 'detail' | 'status'> & {
  hint: string;
};

export class ApiError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

let csrf = '';
/** Shows the sign-in dialog and resolves when somebody has signed in; set by the application. */
let signInAgain: (() => Promise<void>) | null = null;
export function onSessionEnded(work: () => Promise<void>): void {
  signInAgain = work;
}
/** A stream noticed that the session has ended. */
export const sessionEnded = (): Promise<void> => signInAgain?.() ?? Promise.resolve();

export async function openSession(): Promise<boolean> {
  try {
    csrf = (await get('/session')).csrf;
    return csrf !== '';
  } catch {
    return false;
  }
}

export async function signIn(key: string): Promise<void> {
  csrf = (await send('POST', '/session', { key })).csrf;
}

export async function signOut(): Promise<void> {
  await send('DELETE', '/session');
  csrf = '';
}

export function get<const Path extends string>(
  path: Path,
  signal?: AbortSignal,
): Promise<Answer<'get', Path>> {
  return call('GET', path, undefined, signal);
}

export function send<
  const Method extends 'POST' | 'PUT' | 'PATCH' | 'DELETE',
  const Path extends string,
>(
  method: Method,
  path: Path,
  ...[body]: undefined extends Body<Lowercase<Method>, Path>
    ? []
    : [body: Body<Lowercase<Method>, Path>]
): Promise<Answer<Lowercase<Method>, Path>> {
  return call(method, path, body === undefined ? undefined : JSON.stringify(body));
}

export const csrfToken = (): string => csrf;

async function call<T>(
  method: string,
  path: string,
  body?: string,
  signal?: AbortSignal,
): Promise<T> {
  let answer = await asked(method, path, body, signal);
  if (answer.status === 401 && path !== '/session' && signInAgain) {
    // the session ended in the middle of something: sign in here and go on
    await signInAgain();
    answer = await asked(method, path, body, signal);
  } else if (
    answer.status === 403 &&
    method !== 'GET' &&
    (await answer.clone().text()).includes('"csrf"')
  ) {
    await openSession(); // signed in anew elsewhere: this page's token is old
    answer = await asked(method, path, body, signal);
  }
  if (answer.ok) return (await answer.json()) as T;
  throw new ApiError(await problemOf(answer));
}

async function asked(
  method: string,
  path: string,
  body?: string,
  signal?: AbortSignal,
): Promise<Response> {
  try {
    return await fetch(`/api${path}`, {
      method,
      body,
      signal,
      headers: {
        ...(body ? { 'Content-Type': 'application/json' } : {}),
        ...(method === 'GET' ? {} : { 'X-CSRF-Token': csrf }),
      },
    });
  } catch (error) {
    if (error instanceof DOMException && error.name === 'AbortError') throw error;
    throw new ApiError({
      code: 'offline',
      title: 'No connection',
      detail: 'No connection to the server.',
      hint: 'What you typed is kept; try again when it answers.',
      status: 0,
    });
  }
}

export async function problemOf(answer: Response): Promise<Problem> {
  try {
    return parseProblem(await answer.text(), answer.status);
  } catch {
    return parseProblem('', answer.status);
  }
}

export function parseProblem(text: string, status: number): Problem {
  try {
    const data = JSON.parse(text) as Partial<Problem>;
    return {
      code: data.code ?? 'error',
      title: data.title ?? 'Request failed',
      detail: data.detail ?? '',
      hint: data.hint ?? '',
      status,
    };
  } catch {
    return {
      code: 'error',
      title: 'Request failed',
      detail: `The server answered with status ${status}.`,
      hint: 'Try again.',
      status,
    };
  }
}
