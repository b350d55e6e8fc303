/** minus subtracts exact decimals that are written as text: what is left is never below zero. */
export function minus(from: string | undefined, ...less: (string | undefined)[]): string {
  const all = [from, ...less].map((v) => v || '0')
  const places = Math.max(...all.map((v) => v.split('.')[1]?.length ?? 0))
  const whole = all.map((v) => {
    const [units = '0', part = ''] = v.replace('-', '').split('.')
    const n = BigInt(units + part.padEnd(places, '0'))
    return v.startsWith('-') ? -n : n
  })
  const left = whole.slice(1).reduce((sum, n) => sum - n, whole[0]!)
  if (left <= 0n) return '0'
  const digits = left.toString().padStart(places + 1, '0')
  return places ? `${digits.slice(0, -places)}.${digits.slice(-places)}`.replace(/\.?0+$/, '') : digits
}
