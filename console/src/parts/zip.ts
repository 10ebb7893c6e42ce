/**
 * Gives one file of a ZIP as text, without reading the rest of it; undefined when the file
 * is no ZIP, or has no such entry.
 */
export async function unzipped(file: Blob, name: string): Promise<string | undefined> {
  const view = async (from: number, length: number) =>
    new DataView(await file.slice(from, from + length).arrayBuffer())
  // The directory is found from the end, before which there may be a comment.
  const tail = Math.min(file.size, 22 + 0xffff)
  const end = await view(file.size - tail, tail)
  let at = tail - 22
  while (at >= 0 && end.getUint32(at, true) !== 0x06054b50) at--
  if (at < 0) return undefined
  const size = end.getUint32(at + 12, true)
  const directory = await view(end.getUint32(at + 16, true), size)
  for (let i = 0; i + 46 <= size && directory.getUint32(i, true) === 0x02014b50;) {
    const [method, packed, length] = [
      directory.getUint16(i + 10, true),
      directory.getUint32(i + 20, true),
      directory.getUint16(i + 28, true),
    ]
    const entry = new TextDecoder().decode(new Uint8Array(directory.buffer, i + 46, length))
    if (entry === name) {
      const start = directory.getUint32(i + 42, true)
      const header = await view(start, 30)
      const from = start + 30 + header.getUint16(26, true) + header.getUint16(28, true)
      const data = file.slice(from, from + packed)
      return method === 8
        ? new Response(data.stream().pipeThrough(new DecompressionStream('deflate-raw'))).text()
        : data.text()
    }
    i += 46 + length + directory.getUint16(i + 30, true) + directory.getUint16(i + 32, true)
  }
  return undefined
}
