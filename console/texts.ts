import type { Plugin } from 'vite'

const named = /(?:\$t\(\s*['`]|keypath=")(\w+)/g
const ours = /\/src\/(?!texts\/).*\.(?:vue|ts)$/

/**
 * Lets a module that says something bring along the texts of its room, so that
 * a page loads the texts of its rooms and no others. A key that is put together
 * is found when its room is written in front of it.
 */
export function texts(): Plugin {
  return {
    name: 'texts',
    enforce: 'pre',
    resolveId: (id) => (id.startsWith('texts:') ? `\0${id}` : undefined),
    load(id) {
      if (!id.startsWith('\0texts:')) return
      const room = id.slice('\0texts:'.length)
      return `import { add } from '/src/texts/index.ts'\nimport texts from '/src/texts/en/${room}.json'\nadd('en', texts)\n`
    },
    transform(code, id) {
      if (!ours.test(id)) return
      const rooms = [...new Set([...code.matchAll(named)].map((m) => m[1]))]
      if (!rooms.length) return
      const brought = rooms.map((room) => `import 'texts:${room}'\n`).join('')
      if (id.endsWith('.ts')) return brought + code
      const script = /<script setup[^>]*>\n/
      return script.test(code)
        ? code.replace(script, (tag) => tag + brought)
        : `<script setup>\n${brought}</script>\n${code}`
    },
  }
}
