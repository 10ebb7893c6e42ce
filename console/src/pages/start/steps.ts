import type { Schemas } from '../../api/client'
import { keepsClasses, refused } from '../connections/interface'

/** One step of the first hour. */
export interface FirstStep {
  title: string
  /** What it is for, in a sentence. */
  why: string
  done: boolean
  /** What was found when it was looked at. */
  check: string
  /** The page on which it is done, and what its link says. */
  to?: string
  act?: string
}

/** What the steps are worked out from. */
export interface Known {
  interfaces: Schemas['Interface'][]
  /** Interfaces by kind that a register can be read from, and at which classes are kept. */
  kinds: Schemas['Kind'][]
  /** Sections in the register, paired or not. */
  sections: number
  paired: number
  /** Those that were run once at least. */
  ran: number
}

const all = (n: number, one: string, many: string) => `${n.toLocaleString()} ${n === 1 ? one : many}`

function tested(list: Schemas['Interface'][]): string {
  const untested = list.filter((i) => !i.probedAt)
  const barred = list.filter(refused)
  if (untested.length) return `${untested[0]!.name} is not tested yet.`
  if (barred.length) return `${barred[0]!.name} does not let Kanban in everywhere: see its page.`
  return `${list.map((i) => i.name).join(', ')}: tested, works.`
}

/** The way from an empty installation to the first class that was run. */
export function firstSteps(k: Known): FirstStep[] {
  const able = (capability: string) => {
    const kinds = new Set(k.kinds.filter((x) => x.capabilities.includes(capability)).map((x) => x.name))
    return k.interfaces.filter((i) => kinds.has(i.kind))
  }
  const registers = able('people-in')
  const services = k.interfaces.filter(keepsClasses)
  const register = registers[0]
  return [
    {
      title: 'Connect the register',
      why: 'It says who is in which section.',
      done: registers.length > 0,
      check: registers.length ? tested(registers) : 'No register is connected.',
      to: register ? `/connections/${register.connectionId}` : '/connections/new',
      act: register ? 'Show it' : 'Connect a register',
    },
    {
      title: 'Read it',
      why: 'Reading changes nothing at the register.',
      done: k.sections > 0,
      check: k.sections
        ? `${all(k.sections, 'section', 'sections')} read.`
        : register?.lastRead
          ? `The last read: ${register.lastRead.error || register.lastRead.state}.`
          : 'It was not read yet.',
      to: register && `/connections/${register.connectionId}`,
      act: 'Read now, on its page',
    },
    {
      title: 'Connect a service',
      why: 'There the sections get their classes.',
      done: services.length > 0,
      check: services.length ? tested(services) : 'No service that takes classes is connected.',
      to: services[0] ? `/connections/${services[0].connectionId}` : '/connections/new?kind=scim',
      act: services[0] ? 'Show it' : 'Connect a service',
    },
    {
      title: 'Pair a section with a class',
      why: 'You see who would be added before anything happens.',
      done: k.paired > 0,
      check: k.paired ? `${all(k.paired, 'section is', 'sections are')} paired.` : 'No section is paired.',
      to: k.sections && services.length ? '/sections?state=not-paired' : undefined,
      act: 'Choose a section',
    },
    {
      title: 'Run it',
      why: 'A run does what its preview shows, and looks whether it arrived.',
      done: k.ran > 0,
      check: k.ran ? `${all(k.ran, 'class was', 'classes were')} run.` : 'No class was run yet.',
      to: k.paired ? '/sections?state=never-run' : undefined,
      act: 'Open the pairing and run it',
    },
  ]
}
