import { createApp, effectScope, nextTick } from 'vue'
import { createMemoryHistory, createRouter } from 'vue-router'
import { describe, expect, it, vi } from 'vitest'

import { useAddress } from '../src/parts/address'

/** A page at an address, and what of it is kept there. */
async function page<T>(at: string, use: (a: ReturnType<typeof useAddress>) => T) {
  const router = createRouter({
    history: createMemoryHistory(),
    routes: [
      { path: '/list', component: {} },
      { path: '/other', component: {} },
    ],
  })
  await router.push(at)
  const app = createApp({}).use(router)
  const kept = effectScope().run(() => app.runWithContext(() => use(useAddress())))!
  const comesTo = (path: string) => vi.waitFor(() => expect(router.currentRoute.value.fullPath).toBe(path))
  return { router, kept, comesTo }
}

describe('what is chosen on a page', () => {
  it('is read from its address, and written to it', async () => {
    const { kept, comesTo } = await page('/list?state=held&done=yes', (a) => ({
      state: a.kept('state'),
      done: a.tick('done'),
    }))
    expect(kept.state.value).toBe('held')
    expect(kept.done.value).toBe(true)
    kept.state.value = 'paused'
    kept.done.value = false
    await comesTo('/list?state=paused')
  })

  it('goes into the address at once, and comes out of it by one step back', async () => {
    const none = () => ({ text: '', term: '', course: '' })
    const { router, kept, comesTo } = await page('/list', (a) => a.all(none, 'text'))
    kept.value = { text: '', term: 'First', course: 'Soil' }
    await comesTo('/list?term=First&course=Soil')
    router.back()
    await comesTo('/list')
    expect(kept.value).toEqual(none())
  })

  it('is the same wherever on the page it is read', async () => {
    const { router, kept, comesTo } = await page('/list', (a) => ({
      head: a.kept('sort'),
      table: a.kept('sort'),
    }))
    kept.head.value = '-name'
    await comesTo('/list?sort=-name')
    await vi.waitFor(() => expect(kept.table.value).toBe('-name'))
    router.back()
    await comesTo('/list')
    expect([kept.head.value, kept.table.value]).toEqual(['', ''])
  })

  it('loses no letter and no choice while somebody types fast', async () => {
    const { kept, comesTo } = await page('/list', (a) => ({
      text: a.kept('text', '', true),
      state: a.kept('state'),
    }))
    for (const text of ['s', 'so', 'soi', 'soil']) {
      kept.text.value = text
      if (text === 'so') kept.state.value = 'held'
      await nextTick() // the address is on its way
      expect(kept.text.value).toBe(text)
    }
    await comesTo('/list?text=soil&state=held')
    expect(kept.state.value).toBe('held')
  })

  it('begins a list anew when it is narrowed', async () => {
    const { kept, comesTo } = await page('/list?from=a,b', (a) => ({
      cursor: a.cursors(),
      state: a.kept('state'),
    }))
    expect(kept.cursor.value).toEqual(['a', 'b'])
    kept.state.value = 'held'
    expect(kept.cursor.value).toEqual([])
    await comesTo('/list?state=held')
  })

  it('says nothing about the page that comes after', async () => {
    const { router, kept, comesTo } = await page('/list?state=held', (a) => a.kept('state'))
    await router.push('/other?state=paused')
    expect(kept.value).toBe('held')
    kept.value = 'late'
    await comesTo('/other?state=paused')
  })
})
