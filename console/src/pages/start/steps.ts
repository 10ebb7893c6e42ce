import type { Schemas } from '../../api/client'
import { $t } from '../../texts'
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

function tested(list: Schemas['Interface'][]): string {
  const untested = list.filter((i) => !i.probedAt)
  const barred = list.filter(refused)
  if (untested.length) return $t('start.isNotTestedYet', { name: untested[0]!.name })
  if (barred.length) return $t('start.doesNotLetKanbanIn', { name: barred[0]!.name })
  return $t('start.testedWorks', { list: list.map((i) => i.name).join(', ') })
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
      title: $t('start.connectRegister'),
      why: $t('start.itSaysWhoIsIn'),
      done: registers.length > 0,
      check: registers.length ? tested(registers) : $t('start.noRegisterIsConnected'),
      to: register ? `/connections/${register.connectionId}` : '/connections/new',
      act: register ? $t('start.showIt') : $t('start.connectOneRegister'),
    },
    {
      title: $t('common.readIt'),
      why: $t('start.readingChangesNothingAtRegister'),
      done: k.sections > 0,
      check: k.sections
        ? $t('start.sectionsRead', { n: k.sections.toLocaleString() }, k.sections)
        : register?.lastRead
          ? $t('start.lastRead', { error: register.lastRead.error || register.lastRead.state })
          : $t('start.itWasNotReadYet'),
      to: register && `/connections/${register.connectionId}`,
      act: $t('start.readNowOnItsPage'),
    },
    {
      title: $t('start.connectService'),
      why: $t('start.thereSectionsGetTheirClasses'),
      done: services.length > 0,
      check: services.length ? tested(services) : $t('start.noServiceThatTakesClasses'),
      to: services[0] ? `/connections/${services[0].connectionId}` : '/connections/new?kind=scim',
      act: services[0] ? $t('start.showIt') : $t('start.connectService'),
    },
    {
      title: $t('start.pairSectionWithClass'),
      why: $t('start.youSeeWhoWouldBe'),
      done: k.paired > 0,
      check: k.paired
        ? $t('start.sectionsPaired', { n: k.paired.toLocaleString() }, k.paired)
        : $t('start.noSectionIsPaired'),
      to: k.sections && services.length ? '/sections?state=not-paired' : undefined,
      act: $t('start.chooseSection'),
    },
    {
      title: $t('start.runIt'),
      why: $t('start.runDoesWhatItsPreview'),
      done: k.ran > 0,
      check: k.ran
        ? $t('start.classesRun', { n: k.ran.toLocaleString() }, k.ran)
        : $t('start.noClassWasRunYet'),
      to: k.paired ? '/sections?state=never-run' : undefined,
      act: $t('start.openPairingAndRunIt'),
    },
  ]
}
