import { reactive } from 'vue'

const key = 'koinos.followed'

function kept(): number[] {
  try {
    const all: unknown = JSON.parse(sessionStorage.getItem(key) || '[]')
    return Array.isArray(all) ? all.filter((n) => typeof n === 'number') : []
  } catch {
    return [] // somebody else has written there
  }
}

/** The loads that this window has seen running: where one ends, a notice says so on whichever page the reader is. */
export const followed = reactive(new Set<number>(kept()))

const keep = () => sessionStorage.setItem(key, JSON.stringify([...followed]))

export function follow(load: number) {
  followed.add(load)
  keep()
}

export function leave(load: number) {
  followed.delete(load)
  keep()
}
