// Makes symbols.json anew out of the filled symbols of Phosphor Icons (MIT), with every arc as curves and every place
// absolute, so that a reader of M, L, C, Q and Z draws them:
//
//   npm install --no-save @phosphor-icons/core@2.1.1 svgpath@2.6.0 && node make.mjs > symbols.json
import { readFileSync } from 'node:fs'
import svgpath from 'svgpath'

const names = `atom bicycle bird book-open bug butterfly calculator camera chat-circle check-fat code compass drop
first-aid flask flower flower-lotus globe graduation-cap hands-clapping handshake heart key leaf lightbulb medal mountains
music-notes paint-brush pencil plant puzzle-piece rocket ruler scales shovel star sun tree trophy users`.split(/\s+/)

const out = {}
for (const name of names) {
  const svg = readFileSync(`node_modules/@phosphor-icons/core/assets/fill/${name}-fill.svg`, 'utf8')
  const paths = [...svg.matchAll(/<path d="([^"]+)"/g)].map((m) => m[1])
  if (paths.length === 0 || /<(?!\/?svg|path)[a-z]/.test(svg)) throw new Error(`${name} is not made of paths only`)
  const path = svgpath(paths.join(' ')).abs().unarc().unshort().round(2)
  // H and V as L
  let x = 0, y = 0
  const parts = path.segments.map(([op, ...v]) => {
    if (op === 'H') v = [v[0], y]
    if (op === 'V') v = [x, v[0]]
    if (v.length) [x, y] = v.slice(-2)
    return (op === 'H' || op === 'V' ? 'L' : op) + v.join(' ')
  })
  out[name] = parts.join('')
}
process.stdout.write(JSON.stringify(out, null, 1) + '\n')
