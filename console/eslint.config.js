import skipFormatting from '@vue/eslint-config-prettier/skip-formatting'
import { defineConfigWithVueTs, vueTsConfigs } from '@vue/eslint-config-typescript'
import vue from 'eslint-plugin-vue'

export default defineConfigWithVueTs(
  { ignores: ['dist/**', 'src/api/schema.d.ts'] },
  vue.configs['flat/recommended'],
  vueTsConfigs.recommended,
  skipFormatting,
  { rules: { 'vue/multi-word-component-names': 'off' } },
)
