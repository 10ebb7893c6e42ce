import { definePreset } from '@primeuix/themes'
import Aura from '@primeuix/themes/aura'

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

/** The look of every PrimeVue part: ink on paper, square corners, no shadows. */
export const preset = definePreset(Aura, {
  primitive: { borderRadius: { none: '0', xs: '1px', sm: '2px', md: '2px', lg: '3px', xl: '3px' } },
  components: {
    checkbox: { root: { width: '1rem', height: '1rem' }, icon: { size: '0.75rem' } },
    radiobutton: { root: { width: '1rem', height: '1rem' }, icon: { size: '0.5rem' } },
  },
  semantic: {
    primary: ink,
    colorScheme: {
      light: {
        surface: paper,
        primary: {
          color: '{primary.700}',
          hoverColor: '{primary.600}',
          activeColor: '{primary.800}',
          contrastColor: '#fffdf8',
        },
      },
    },
  },
})
