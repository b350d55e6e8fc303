import { ref } from 'vue'

/** now moves on twice a minute, for what says how long ago something was. */
export const now = ref(new Date())
setInterval(() => (now.value = new Date()), 30_000)

/** ago says how long ago a moment of the last hour was; "" is that it was earlier, or is still to come. */
export function ago(at: Date, now: Date): string {
  const minutes = Math.floor((now.getTime() - at.getTime()) / 60_000)
  if (minutes >= 60 || minutes < -1) return '' // a clock may be a little ahead
  return minutes < 1 ? 'just now' : `${minutes} min ago`
}
