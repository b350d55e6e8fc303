import { definePreset } from '@primeuix/themes'
import Aura from '@primeuix/themes/aura'
import { ref, watchEffect } from 'vue'

// Paper and ink with one accent, harbour green. Amber and red are kept for findings.
const ink = {
  0: '#ffffff',
  50: '#fbf8f1',
  100: '#f3eee2',
  200: '#e6dfcf',
  300: '#cfc7b4',
  400: '#a39c8b',
  500: '#7b766a',
  600: '#5b5a55',
  700: '#434649',
  800: '#2b333b',
  900: '#1e262d',
  950: '#141a1f',
}
const accent = {
  50: '#edf6f6',
  100: '#d3e8e9',
  200: '#a9d1d4',
  300: '#78b4b9',
  400: '#4a949b',
  500: '#2a7780',
  600: '#1d6470',
  700: '#18525c',
  800: '#16444c',
  900: '#143940',
  950: '#0a242a',
}

export const OrderPaperTheme = definePreset(Aura, {
  semantic: {
    primary: accent,
    borderRadius: { sm: '2px', md: '3px', lg: '4px', xl: '6px' },
    colorScheme: {
      light: {
        surface: ink,
        primary: {
          color: '{primary.600}',
          inverseColor: '#ffffff',
          hoverColor: '{primary.700}',
          activeColor: '{primary.800}',
        },
        content: { background: '#fffdf8' },
      },
      dark: {
        surface: { ...ink, 0: '#ffffff' },
        primary: {
          color: '{primary.300}',
          inverseColor: '{primary.950}',
          hoverColor: '{primary.200}',
          activeColor: '{primary.100}',
        },
      },
    },
  },
  // Labels that can be read on paper (WCAG 2.1, 1.4.3).
  components: {
    button: {
      colorScheme: {
        light: {
          text: { secondary: { color: '{surface.600}' }, danger: { color: '#a3241a' } },
          outlined: { secondary: { color: '{surface.600}' }, danger: { color: '#a3241a' } },
        },
      },
    },
  },
})

const stored = localStorage.getItem('koinos.theme')
export const dark = ref(stored ? stored === 'dark' : matchMedia('(prefers-color-scheme: dark)').matches)

watchEffect(() => {
  document.documentElement.classList.toggle('dark', dark.value)
})

export function toggleDark() {
  dark.value = !dark.value
  localStorage.setItem('koinos.theme', dark.value ? 'dark' : 'light')
}
