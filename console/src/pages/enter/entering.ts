import { ref } from 'vue'
import { useRouter } from 'vue-router'

import { entered } from '../../router'

/** Sends what lets somebody in, and goes on to a page; what is wrong is said. */
export function useEntering(send: () => Promise<unknown>, to: () => string = () => '/') {
  const router = useRouter()
  const error = ref<Error | null>(null)
  const busy = ref(false)
  async function enter() {
    busy.value = true
    error.value = null
    try {
      await send()
      entered(true)
      await router.push(to())
    } catch (e) {
      error.value = e as Error
    } finally {
      busy.value = false
    }
  }
  return { error, busy, enter }
}
