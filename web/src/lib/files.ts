/** A file's octets in base64, as the API takes them. */
export async function inBase64(file: Blob): Promise<string> {
  const octets = new Uint8Array(await file.arrayBuffer())
  let text = ''
  for (let at = 0; at < octets.length; at += 0x8000) text += String.fromCharCode(...octets.subarray(at, at + 0x8000))
  return btoa(text)
}

/** The most that is sent at all; the API says more exactly why a smaller thing is not read. */
export const LARGEST = 4 * 1024 * 1024

/** Hand text over as a file. */
export function download(name: string, content: string): void {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([content], { type: 'text/plain' }))
  link.download = name
  link.click()
  URL.revokeObjectURL(link.href)
}
