/** What an address answers, by the API's own description: nobody chooses a result's type by hand. */
import type { paths as bodies } from './bodies.gen';
import type { paths } from './schema.gen';

type Method = 'get' | 'post' | 'put' | 'patch' | 'delete';
/** '/api/plans/{ident}/file' as the addresses it stands for. */
type Filled<Path extends string> = Path extends `${infer Before}{${string}}${infer After}`
  ? `${Before}${string}${Filled<After>}`
  : Path;
type WithoutQuery<Address extends string> = Address extends `${infer Path}?${string}`
  ? Path
  : Address;
type Same<A, B> = [A] extends [B] ? ([B] extends [A] ? true : false) : false;
/** The described path that an address is of: the one whose addresses are exactly of this form. */
type Described<Address extends string> = {
  [Path in keyof paths]: Path extends string
    ? Same<Filled<Path>, `/api${WithoutQuery<Address>}`> extends true
      ? Path
      : never
    : never;
}[keyof paths];

type JsonOf<Answers> = Answers extends {
  200: { content: { 'application/json': infer Json } };
}
  ? Json
  : undefined;
/** An address that is not described answers something unknown, which no caller can use by accident. */
type AnswerOf<Path, M extends Method> = [Path] extends [never]
  ? unknown
  : Path extends keyof paths
    ? paths[Path] extends Record<M, { responses: infer Answers }>
      ? JsonOf<Answers>
      : unknown
    : unknown;

type BodyOf<Path, M extends Method> = [Path] extends [never]
  ? unknown
  : Path extends keyof bodies
    ? bodies[Path] extends Record<
        M,
        { requestBody: { content: { 'application/json': infer Json } } }
      >
      ? Json
      : OptionalOf<bodies[Path], M>
    : unknown;
/** A body that may be left out. */
type OptionalOf<Methods, M extends Method> =
  Methods extends Record<
    M,
    { requestBody?: { content: { 'application/json': infer Json } } | undefined }
  >
    ? unknown extends Json
      ? undefined
      : NonNullable<Json>
    : undefined;

/** What an address takes with a method; members that have a default may be left out. */
export type Body<M extends Method, Address extends string> = BodyOf<Described<Address>, M>;

/** What is asked of a run. */
export type RunBody = Body<'post', `/runs/${string}/${string}`>;

/** What an address answers to a method. */
export type Answer<M extends Method, Address extends string> = AnswerOf<Described<Address>, M>;
