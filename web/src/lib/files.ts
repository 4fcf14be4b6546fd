/** A file's octets in base64, as the API takes them. */
export async function inBase64(file: Blob): Promise<string> {
  const octets = new Uint8Array(await file.arrayBuffer())
  let text = ''
  for (let at = 0; at < octets.length; at += 0x8000)
    text += String.fromCharCode(...octets.subarray(at, at + 0x8000))
  return btoa(text)
}

/** The text that octets in base64 are in UTF-8. */
export function fromBase64(octets: string): string {
  return new TextDecoder().decode(Uint8Array.from(atob(octets), (letter) => letter.charCodeAt(0)))
}

/**
 * A file in PEM as it stands; one in DER, which begins with a SEQUENCE (ITU-T X.690), as PEM under
 * a label (RFC 7468).
 */
export async function asPem(file: Blob, label: string): Promise<string> {
  const first = new Uint8Array(await file.slice(0, 1).arrayBuffer())[0]
  if (first !== 0x30) return await file.slice(0, LARGEST).text()
  const lines = (await inBase64(file)).match(/.{1,64}/g) ?? []
  return [`-----BEGIN ${label}-----`, ...lines, `-----END ${label}-----`, ''].join('\n')
}

/** The most that is sent at all; the API says more exactly why a smaller thing is not read. */
export const LARGEST = 4 * 1024 * 1024

/** Hand octets over as a file, from base64. */
export function downloadBase64(name: string, content: string): void {
  save(
    name,
    new Blob([Uint8Array.from(atob(content), (letter) => letter.charCodeAt(0))], {
      type: 'application/octet-stream',
    }),
  )
}

/** Hand text over as a file. */
export function download(name: string, content: string): void {
  save(name, new Blob([content], { type: 'text/plain' }))
}

function save(name: string, content: Blob): void {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(content)
  link.download = name
  link.click()
  URL.revokeObjectURL(link.href)
}
