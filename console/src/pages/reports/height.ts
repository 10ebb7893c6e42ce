import type { Schemas } from '../../api/client'

/** So many bars are drawn; the table has them all. */
export const most = 40

/** Whether a chart is one of lines: of one day there is nothing to draw a line through. */
export const isLines = (c: Schemas['ReportChart']) => c.kind === 'lines' && (c.labels?.length ?? 0) > 1

/** How high a chart is in pixels, so that there is room for it before it is drawn. */
export const heightOf = (c: Schemas['ReportChart']) =>
  isLines(c) ? 260 : 70 + 28 * Math.min(c.labels?.length ?? 0, most)
