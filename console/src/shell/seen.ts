import { api, ok } from '../api/client'
import { me } from './may'

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

/** Looks as who is signed in again, at the page of whom they looked as. */
export async function lookAsMyself() {
  const person = me.value?.viewing?.personId
  await ok(api.DELETE('/api/v1/session/viewing'))
  window.location.assign(person ? `/people/${person}` : '/')
}
