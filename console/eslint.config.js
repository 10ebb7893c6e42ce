import i18n from '@intlify/eslint-plugin-vue-i18n'
import skipFormatting from '@vue/eslint-config-prettier/skip-formatting'
import { defineConfigWithVueTs, vueTsConfigs } from '@vue/eslint-config-typescript'
import vue from 'eslint-plugin-vue'

export default defineConfigWithVueTs(
  { ignores: ['dist/**', 'src/api/schema.d.ts'] },
  vue.configs['flat/recommended'],
  vueTsConfigs.recommended,
  i18n.configs.base,
  skipFormatting,
  { rules: { 'vue/multi-word-component-names': 'off' } },
  {
    // What the console says stands in src/texts, each text is used, and none is missing.
    files: ['src/**'],
    settings: {
      'vue-i18n': {
        localeDir: {
          pattern: './src/texts/*/*.json',
          localePattern: /.*\/(?<locale>[\w-]+)\/\w+\.json$/,
          localeKey: 'path',
        },
        messageSyntaxVersion: '^11.0.0',
      },
    },
    rules: {
      '@intlify/vue-i18n/no-missing-keys': 'error',
      '@intlify/vue-i18n/no-unused-keys': [
        'error',
        { src: './src', extensions: ['.ts', '.vue'], ignores: ['/^codes\\./'] },
      ],
      '@intlify/vue-i18n/valid-message-syntax': 'error',
      '@intlify/vue-i18n/no-raw-text': [
        'error',
        {
          attributes: {
            '/.+/': [
              'label',
              'title',
              'about',
              'empty',
              'header',
              'help',
              'placeholder',
              'aria-label',
              'text',
              'none',
            ],
          },
          ignoreNodes: ['code', 'kbd', 'svg'],
          // Addresses, names of fields and durations are examples of what is typed.
          ignorePattern: String.raw`^([^A-Za-z]*|\S*[./-]\S*|\d\S*(, \S+)*)$`,
        },
      ],
    },
  },
)
