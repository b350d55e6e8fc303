import { ref } from 'vue'

/** One action of a page at a time: which one runs, and what went wrong with the last. */
export function useBusy() {
  const busy = ref('')
  const failed = ref<unknown>()
  async function act(what: string, f: () => Promise<unknown>) {
    failed.value = undefined
    busy.value = what
    try {
      await f()
    } catch (e) {
      failed.value = e
    } finally {
      busy.value = ''
    }
  }
  return { busy, failed, act }
}
