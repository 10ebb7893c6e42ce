import { describe, expect, it } from 'vitest'

import { dateText, datePattern, fromDate, timeOf } from '../src/parts/form/moment'

describe('a time of day', () => {
  it.each([
    ['6:30', '06:30'],
    ['06:30', '06:30'],
    ['0630', '06:30'],
    ['6.30', '06:30'],
    ['6:30 pm', '18:30'],
    ['6 pm', '18:00'],
    ['12 am', '00:00'],
    ['12 p.m.', '12:00'],
    [' 23:59 ', '23:59'],
    ['', ''],
  ])('%s is %s', (typed, time) => expect(timeOf(typed)).toBe(time))
  it.each(['6', '24:00', '6:60', '13 pm', '0 am', 'noon', '6:3', '06:30:00', '-6:30'])(
    '%s is none',
    (typed) => expect(timeOf(typed)).toBeUndefined(),
  )
})

describe('a day', () => {
  it('is read and written as it was', () => {
    for (const day of ['2027-09-01', '2028-02-29', '2027-03-28']) expect(dateText(fromDate(day)!)).toBe(day)
  })
  it.each(['2027-02-29', '2027-02-31', '2027-13-01', '2027-9-1', '1.9.2027', ''])('%s is none', (text) =>
    expect(fromDate(text)).toBeNull(),
  )
  it('is written as the reader’s language does', () => {
    expect(datePattern('en-GB')).toBe('dd/mm/yy')
    expect(datePattern('en-US')).toBe('mm/dd/yy')
    expect(datePattern('de-DE')).toBe('dd.mm.yy')
    expect(datePattern('sv-SE')).toBe('yy-mm-dd')
  })
})
