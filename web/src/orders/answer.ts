import { inUnit } from './decimal'

/** Statement is what is answered to a line, or to a part of it, as it is typed: blank is all of it, or not said. */
export interface Statement {
  id: string
  answer: string
  accepted: string
  due_on: string
  reason: string
}

/** answered gives the lines of a notice for the statements that say something. */
export function answered(all: Statement[]): Record<string, string>[] {
  return all
    .filter((s) => s.answer)
    .map((s) => {
      const line: Record<string, string> = { id: s.id, answer: s.answer }
      const { quantity, unit } = inUnit(s.accepted)
      if (quantity) line.accepted = quantity
      if (unit) line.accepted_unit = unit
      if (s.due_on.trim()) line.due_on = s.due_on.trim()
      if (s.reason.trim()) line.reason = s.reason.trim()
      return line
    })
}
