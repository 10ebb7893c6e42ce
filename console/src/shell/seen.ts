import { api, ok } from '../api/client'

// What is seen changes everywhere by these: every page begins anew.

/** Hides the names of people in this session. */
export async function hideNames() {
  await ok(api.PUT('/api/v1/session/names', { body: { hidden: true } }))
  window.location.reload()
}

/** Shows them again. */
export async function showNames() {
  await ok(api.PUT('/api/v1/session/names', { body: { hidden: false } }))
  window.location.reload()
}

/** Looks as somebody of the register does, from the page on which they begin. */
export async function lookAs(personId: string) {
  await ok(api.POST('/api/v1/session/viewing', { body: { personId } }))
  window.location.assign('/')
}

/** Looks as who is signed in again, at the person as whom it was. */
export async function lookAsMyself() {
  await ok(api.DELETE('/api/v1/session/viewing'))
  window.location.assign('/')
}
