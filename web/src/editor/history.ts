import { ref, watch, type Ref } from 'vue'

const most = 100

/** Undo and redo of a text: every text that stood for a moment. */
export function useHistory(text: Ref<string>) {
  const past = ref<string[]>([])
  const future = ref<string[]>([])
  let stood = ''
  let stepping = false
  watch(text, (_, was) => {
    if (stepping || !was) return
    if (!stood) stood = was
    future.value = []
  })
  /** settle makes the text as it stands one that undo comes back to. */
  function settle() {
    if (stood && stood !== text.value) past.value = [...past.value.slice(1 - most), stood]
    stood = ''
  }
  function step(from: typeof past, to: typeof past) {
    settle()
    const t = from.value.at(-1)
    if (t === undefined) return
    stepping = true
    from.value = from.value.slice(0, -1)
    to.value = [...to.value, text.value]
    text.value = t
    queueMicrotask(() => (stepping = false))
  }
  /** apply puts another text in its place. */
  function apply(next: string) {
    settle()
    text.value = next
  }
  return { past, future, settle, apply, undo: () => step(past, future), redo: () => step(future, past) }
}
