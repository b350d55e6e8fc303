import type { InjectionKey, Ref } from 'vue'

import type { Finding } from '../api/client'
import type { Spot } from '../places'

/** What the values on an order paper ask of the paper. */
export interface PaperContext {
  lit: Ref<Spot | undefined>
  place(line: number, field: string): Spot | undefined
  findings(line: number, field: string): Finding[]
  placeName(line: number, field: string): string
  point(spot: Spot | undefined): void
  pick(spot: Spot): void
  ask(line: number, field: string): void
}

export const paperKey: InjectionKey<PaperContext> = Symbol('paper')
