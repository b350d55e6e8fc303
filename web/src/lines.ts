import { computed, ref, watch, type Ref } from 'vue'

/** How many lines of an order a page shows at once: a browser draws tens of thousands only slowly. */
export const linesAtOnce = 200

/** The first position of the part with a line; positions are counted from 0. */
export const partOf = (position: number) => Math.floor(position / linesAtOnce) * linesAtOnce

/** The lines of an order, a part at a time. */
export function useLines<T>(all: () => T[]): {
  first: Ref<number> // position of the first that is shown, counted from 0
  shown: Ref<T[]>
  show: (position: number) => void // turns to the part with a line
} {
  const first = ref(0)
  const show = (position: number) => (first.value = partOf(position))
  watch(
    () => all().length,
    (n) => first.value >= n && show(Math.max(0, n - 1)),
  )
  return { first, shown: computed(() => all().slice(first.value, first.value + linesAtOnce)), show }
}
