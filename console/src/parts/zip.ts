/**
 * Gives one file of a ZIP as text, without reading the rest of it; undefined when the file
 * is no ZIP, or has no such entry. The library is loaded with the first ZIP.
 */
export async function unzipped(file: Blob, name: string): Promise<string | undefined> {
  const { BlobReader, TextWriter, ZipReader, configure } = await import('@zip.js/zip.js')
  configure({ useWebWorkers: false }) // which the page's content policy would refuse
  const zip = new ZipReader(new BlobReader(file))
  try {
    const entry = (await zip.getEntries()).find((e) => e.filename === name)
    return entry && !entry.directory ? await entry.getData(new TextWriter()) : undefined
  } catch {
    return undefined
  } finally {
    await zip.close()
  }
}
