import type { Located, Place } from './api/client'

/** A cell of the grid that shows a document. */
export interface Spot {
  row: number
  column: number
  pointer?: string
}

export const spotOf = (p: Place | undefined): Spot | undefined =>
  p?.row ? { row: p.row, column: p.column ?? 0, pointer: p.pointer } : undefined

/** Where the values of an order stand, by line and field and by cell. */
export class Places {
  private readonly byValue = new Map<string, Located>()
  constructor(private readonly list: Located[] = []) {
    for (const l of list) this.byValue.set(key(l.line ?? 0, l.field ?? ''), l)
  }
  /** The place of a value; line 0 is the header. */
  of(line: number, field: string): Located | undefined {
    return this.byValue.get(key(line, field))
  }
  /** The values that stand in a cell. */
  at(spot: Spot): Located[] {
    return this.list.filter(
      (l) =>
        l.field &&
        l.place.row === spot.row &&
        (l.place.column ?? 0) === spot.column &&
        (!spot.pointer || !l.place.pointer || l.place.pointer === spot.pointer),
    )
  }
  /** The sheet that the order stands in; blank where the document has none. */
  get sheet(): string {
    return this.list.find((l) => l.place.sheet)?.place.sheet ?? ''
  }
  /** The first row that the order takes. */
  get first(): number | undefined {
    const rows = this.list.map((l) => l.place.row ?? 0).filter((r) => r > 0)
    return rows.length ? Math.min(...rows) : undefined
  }
}

const key = (line: number, field: string) => `${line} ${field}`
