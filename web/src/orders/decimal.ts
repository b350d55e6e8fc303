/** Exact decimals that are written as text. */

// whole gives decimals as whole numbers of the same last place.
function whole(all: (string | undefined)[]): { places: number; numbers: bigint[] } {
  const texts = all.map((v) => v || '0')
  const places = Math.max(0, ...texts.map((v) => v.split('.')[1]?.length ?? 0))
  const numbers = texts.map((v) => {
    const [units = '0', part = ''] = v.replace('-', '').split('.')
    const n = BigInt(units + part.padEnd(places, '0'))
    return v.startsWith('-') ? -n : n
  })
  return { places, numbers }
}

function text(n: bigint, places: number): string {
  const digits = (n < 0n ? -n : n).toString().padStart(places + 1, '0')
  return (
    (n < 0n ? '-' : '') +
    (places ? `${digits.slice(0, -places)}.${digits.slice(-places)}`.replace(/\.?0+$/, '') : digits)
  )
}

/** minus subtracts: what is left is never below zero. */
export function minus(from: string | undefined, ...less: (string | undefined)[]): string {
  const { places, numbers } = whole([from, ...less])
  const left = numbers.slice(1).reduce((sum, n) => sum - n, numbers[0]!)
  return left <= 0n ? '0' : text(left, places)
}

/** plus adds, also what is below zero. */
export function plus(...all: (string | undefined)[]): string {
  const { places, numbers } = whole(all)
  return text(
    numbers.reduce((sum, n) => sum + n, 0n),
    places,
  )
}

/** inUnit splits a quantity as it is typed: it may be in another unit than the line's, such as 2 BX. */
export function inUnit(typed: string): { quantity: string; unit?: string } {
  const [, n = '', unit = ''] = /^([\d.]*)\s*(.*)$/.exec(typed.trim()) ?? []
  return n && unit ? { quantity: n, unit: unit.toUpperCase() } : { quantity: typed.trim() }
}
