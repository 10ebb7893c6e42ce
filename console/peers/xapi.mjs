// Somebody else's xAPI client goes through what a course platform does here: statements, attachments, state,
// profiles, and what is known of activities and agents. It ends with 0 when all of it is as the standard says.
//
//   node xapi.mjs ENDPOINT KEY SECRET VERSION
import assert from 'node:assert/strict'
import { createRequire } from 'node:module'

process.on('uncaughtException', (e) => {
  console.error(
    e.stack,
    e.config?.method,
    e.config?.url,
    e.response?.status,
    JSON.stringify(e.response?.data),
  )
  process.exit(1)
})

const loaded = createRequire(import.meta.url)('@xapi/xapi')
const XAPI = loaded.default ?? loaded
const [endpoint, key, secret, version] = process.argv.slice(2)
const xapi = new XAPI({ endpoint, auth: XAPI.toBasicAuth(key, secret), version })

const agent = { objectType: 'Agent', mbox: 'mailto:ada.alder@fernmoor.example', name: 'Ada Alder' }
const activity = {
  objectType: 'Activity',
  id: 'https://platform.example/activities/peer',
  definition: { name: { en: 'Peer' }, type: 'http://adlnet.gov/expapi/activities/lesson' },
}
const refused = async (status, call) => {
  try {
    await call()
  } catch (e) {
    assert.equal(e.response?.status, status, e.message)
    return
  }
  assert.fail(`was not refused with ${status}`)
}

const about = await xapi.getAbout()
assert.ok(about.data.version.includes(version))

// Statements: sent, found, listed page by page, voided.
const [id] = (
  await xapi.sendStatement({ statement: { actor: agent, verb: XAPI.Verbs.COMPLETED, object: activity } })
).data
assert.equal((await xapi.getStatement({ statementId: id })).data.verb.id, XAPI.Verbs.COMPLETED.id)
const many = await xapi.sendStatements({
  statements: Array.from({ length: 5 }, (_, n) => ({
    actor: agent,
    verb: XAPI.Verbs.ANSWERED,
    object: { ...activity, id: `${activity.id}/${n}` },
    result: { duration: XAPI.calculateISO8601Duration(new Date(0), new Date(61500)) },
  })),
})
assert.equal(many.data.length, 5)
let page = (await xapi.getStatements({ agent, verb: XAPI.Verbs.ANSWERED.id, limit: 2 })).data
let seen = page.statements.length
while (page.more) {
  page = (await xapi.getMoreStatements({ more: page.more })).data
  seen += page.statements.length
}
assert.equal(seen, 5)
await xapi.voidStatement({ actor: agent, statementId: id })
await refused(404, () => xapi.getStatement({ statementId: id }))
assert.equal((await xapi.getVoidedStatement({ voidedStatementId: id })).data.id, id)

// State.
const where = { agent, activityId: activity.id }
await xapi.createState({ ...where, stateId: 'bookmark', state: { page: 7, read: [1, 2] } })
await xapi.createState({ ...where, stateId: 'bookmark', state: { page: 8 } })
const state = await xapi.getState({ ...where, stateId: 'bookmark' })
assert.deepEqual(state.data, { page: 8, read: [1, 2] })
await xapi.setState({
  ...where,
  stateId: 'bookmark',
  state: { page: 9 },
  etag: state.headers.etag,
  matchHeader: 'If-Match',
})
assert.deepEqual((await xapi.getState({ ...where, stateId: 'bookmark' })).data, { page: 9 })
assert.deepEqual((await xapi.getStates(where)).data, ['bookmark'])
await xapi.deleteState({ ...where, stateId: 'bookmark' })
await refused(404, () => xapi.getState({ ...where, stateId: 'bookmark' }))
await xapi.createState({ ...where, stateId: 'another', state: { a: 1 } })
await xapi.deleteStates(where)
assert.deepEqual((await xapi.getStates(where)).data, [])

// Profiles: nobody replaces one that they have not seen.
for (const [name, at, from] of [
  ['ActivityProfile', { activityId: activity.id }, 'getActivityProfiles'],
  ['AgentProfile', { agent }, 'getAgentProfiles'],
]) {
  const one = { ...at, profileId: 'peer' }
  await xapi[`create${name}`]({ ...one, profile: { a: 1 } })
  const found = await xapi[`get${name}`](one)
  assert.deepEqual(found.data, { a: 1 })
  const set = (etag) => xapi[`set${name}`]({ ...one, profile: { a: 2 }, etag, matchHeader: 'If-Match' })
  await refused(412, () => set('"another"'))
  await set(found.headers.etag)
  await refused(412, () => set(found.headers.etag))
  assert.deepEqual((await xapi[from](at)).data, ['peer'])
  await xapi[`delete${name}`]({ ...one, etag: (await xapi[`get${name}`](one)).headers.etag })
  assert.deepEqual((await xapi[from](at)).data, [])
}

// What is known.
assert.equal((await xapi.getActivity({ activityId: `${activity.id}/1` })).data.definition.name.en, 'Peer')
const person = (await xapi.getAgent({ agent })).data
assert.deepEqual([person.objectType, person.name, person.mbox], ['Person', ['Ada Alder'], [agent.mbox]])

const wrong = new XAPI({ endpoint, auth: XAPI.toBasicAuth(key, 'wrong'), version })
await refused(401, () => wrong.getStatements())
console.log(`all of it, as xAPI ${version}`)
