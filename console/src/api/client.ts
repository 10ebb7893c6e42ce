import createClient from 'openapi-fetch'

import type { components, paths } from './schema'

export type Schemas = components['schemas']

/** The API client, typed from the service's own description. */
export const api = createClient<paths>({ baseUrl: '/' })

/** A problem that the service answered (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly fields: Record<string, string>,
  ) {
    super(message)
  }
}

interface Answer<T> {
  data?: T
  error?: unknown
  response: Response
}

/** Gives the data of an answer, or throws its Problem. */
export async function ok<T>(answer: Promise<Answer<T>>): Promise<T> {
  let got: Answer<T>
  try {
    got = await answer
  } catch {
    throw new Problem(0, 'The service does not answer. It is tried again by itself.', {})
  }
  if (got.response.ok) return got.data as T
  const body = (got.error ?? {}) as { detail?: string; errors?: { location?: string; message?: string }[] }
  const fields: Record<string, string> = {}
  for (const e of body.errors ?? []) fields[(e.location ?? '').replace(/^body\./, '')] = e.message ?? ''
  throw new Problem(got.response.status, body.detail ?? got.response.statusText, fields)
}
