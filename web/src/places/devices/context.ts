import type { Schemas } from "../../api/client";
import type { AlarmSpan } from "../../parts/chart";
import type { LimitLine } from "../../parts/chart-drawing";
import { unitOf } from "../../parts/units";

/** When alarms were open, by their field: bars at the foot of its chart. */
export const barsOf = (alarms: Schemas["AlarmOut"][], end: Date): (AlarmSpan & { field: string })[] =>
  alarms.map((a) => ({
    field: a.field ?? "",
    from: new Date(a.raised_at).getTime() / 1000,
    to: (a.cleared_at ? new Date(a.cleared_at) : end).getTime() / 1000,
    priority: a.priority,
    open: !a.cleared_at,
  }));

/** The limits that a field is held against. */
export const limitsOf = (limits: Schemas["LimitOut"][], field: string): LimitLine[] =>
  limits
    .filter((l) => l.field === field && l.value !== null)
    .map((l) => ({ value: l.value as number, word: `${l.condition}: ${l.sign} ${l.value} ${unitOf(l.unit)}` }));
