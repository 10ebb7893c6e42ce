import createClient from 'openapi-fetch'
import { toRaw } from 'vue'

import { $t } from '../texts'
import { plain, plainly } from './plain'
import type { components, operations, paths } from './schema'

/** What a list can be asked for, by the name of its operation. */
export type Query<O extends keyof operations> = NonNullable<operations[O]['parameters']['query']>

export type Schemas = components['schemas']

/** The API client, typed from the service's own description. */
export const api = createClient<paths>({ baseUrl: '/' })

/** A problem that the service answered (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly fields: Record<string, string>,
    /** Of the record as it is now, when somebody changed it since it was read. */
    readonly etag = '',
  ) {
    super(message)
  }
}

interface Answer<T> {
  data?: T
  error?: unknown
  response: Response
}

const tags = new WeakMap<object, string>()

/** The ETag with which the service gave a record; empty when it gave none. Queries whose
 * data is asked for it must not share structure with what they had before. */
export const tagOf = (data: object | undefined) => (data && tags.get(toRaw(data))) ?? ''

/** The header by which an edit keeps to what it was made from. */
export const ifMatch = (tag: string | number | undefined) =>
  tag ? { 'If-Match': typeof tag === 'number' ? `"${tag}"` : tag } : {}

/** Sends a file, or what is in one, as it is. */
export const asItIs = (file: File | string, type = 'application/octet-stream') => ({
  body: file as unknown as string,
  bodySerializer: (body: unknown) => body as File,
  headers: { 'Content-Type': type },
})

/** Gives everything of a list that the service gives in parts. */
export async function every<T>(
  part: (cursor: string) => Promise<{ items: T[]; next?: string }>,
): Promise<T[]> {
  const all: T[] = []
  for (let cursor: string | undefined = ''; cursor !== undefined;) {
    const page = await part(cursor)
    all.push(...page.items)
    cursor = page.next || undefined
  }
  return all
}

/** Gives the data of an answer, or throws its Problem. */
export async function ok<T>(answer: Promise<Answer<T>>): Promise<T> {
  let got: Answer<T>
  try {
    got = await answer
  } catch {
    throw new Problem(0, $t('service.serviceDoesNotAnswerIt'), {})
  }
  const etag = got.response.headers.get('ETag') ?? ''
  if (got.response.ok) {
    if (etag && typeof got.data === 'object' && got.data) tags.set(got.data, etag)
    return plainly(got.data as T)
  }
  const body = (got.error ?? {}) as { detail?: string; errors?: { location?: string; message?: string }[] }
  const fields: Record<string, string> = {}
  for (const e of body.errors ?? [])
    fields[(e.location ?? '').replace(/^body\./, '')] = plain(e.message ?? '')
  throw new Problem(got.response.status, plain(body.detail ?? got.response.statusText), fields, etag)
}
