import { definePreset } from '@primeuix/themes'
import accordion from '@primeuix/themes/aura/accordion'
import autocomplete from '@primeuix/themes/aura/autocomplete'
import base from '@primeuix/themes/aura/base'
import button from '@primeuix/themes/aura/button'
import checkbox from '@primeuix/themes/aura/checkbox'
import chip from '@primeuix/themes/aura/chip'
import confirmdialog from '@primeuix/themes/aura/confirmdialog'
import datatable from '@primeuix/themes/aura/datatable'
import datepicker from '@primeuix/themes/aura/datepicker'
import dialog from '@primeuix/themes/aura/dialog'
import fileupload from '@primeuix/themes/aura/fileupload'
import inputnumber from '@primeuix/themes/aura/inputnumber'
import inputtext from '@primeuix/themes/aura/inputtext'
import message from '@primeuix/themes/aura/message'
import multiselect from '@primeuix/themes/aura/multiselect'
import paginator from '@primeuix/themes/aura/paginator'
import popover from '@primeuix/themes/aura/popover'
import progressbar from '@primeuix/themes/aura/progressbar'
import radiobutton from '@primeuix/themes/aura/radiobutton'
import select from '@primeuix/themes/aura/select'
import selectbutton from '@primeuix/themes/aura/selectbutton'
import skeleton from '@primeuix/themes/aura/skeleton'
import textarea from '@primeuix/themes/aura/textarea'
import toast from '@primeuix/themes/aura/toast'
import togglebutton from '@primeuix/themes/aura/togglebutton'
import toggleswitch from '@primeuix/themes/aura/toggleswitch'
import toolbar from '@primeuix/themes/aura/toolbar'
import virtualscroller from '@primeuix/themes/aura/virtualscroller'

const ink = {
  50: '#f4f4f1',
  100: '#e5e6df',
  200: '#c9ccc0',
  300: '#a6ab9a',
  400: '#7d8372',
  500: '#3a4335',
  600: '#2e362a',
  700: '#21281e',
  800: '#191e17',
  900: '#12160f',
  950: '#0b0e0a',
}

const paper = {
  0: '#fffdf8',
  50: '#f9f6ee',
  100: '#f0ecdf',
  200: '#e2dccb',
  300: '#cfc8b4',
  400: '#a29c88',
  500: '#7b7665',
  600: '#5f5b4e',
  700: '#45423a',
  800: '#302e28',
  900: '#1f1e1a',
  950: '#121110',
}

// Only what is used, so that the first page stays small.
const parts = {
  accordion,
  autocomplete,
  button,
  checkbox,
  chip,
  confirmdialog,
  datatable,
  datepicker,
  dialog,
  fileupload,
  inputnumber,
  inputtext,
  message,
  multiselect,
  paginator,
  popover,
  progressbar,
  radiobutton,
  select,
  selectbutton,
  skeleton,
  textarea,
  toast,
  togglebutton,
  toggleswitch,
  toolbar,
  virtualscroller,
}

// What is said in passing: on paper, with the colour of what it means at its edge.
const said = (colour: string) => ({
  background: 'var(--sheet)',
  borderColor: `var(--${colour})`,
  color: 'var(--ink)',
  detailColor: 'var(--ink)',
  shadow: '0 2px 8px rgb(0 0 0 / 12%)',
  closeButton: { hoverBackground: 'var(--hair)' },
})

/** The look of every PrimeVue part: ink on paper, square corners, no shadows. */
export const preset = definePreset(
  { ...base, components: parts },
  {
    primitive: { borderRadius: { none: '0', xs: '1px', sm: '2px', md: '2px', lg: '3px', xl: '3px' } },
    components: {
      checkbox: { root: { width: '1rem', height: '1rem' }, icon: { size: '0.75rem' } },
      toast: {
        colorScheme: { light: { success: said('calm'), warn: said('signal'), error: said('signal') } },
      },
      radiobutton: { root: { width: '1rem', height: '1rem' }, icon: { size: '0.5rem' } },
    },
    semantic: {
      primary: ink,
      colorScheme: {
        light: {
          surface: paper,
          formField: { placeholderColor: '{surface.600}' },
          primary: {
            color: '{primary.700}',
            hoverColor: '{primary.600}',
            activeColor: '{primary.800}',
            contrastColor: '#fffdf8',
          },
        },
      },
    },
  },
)
