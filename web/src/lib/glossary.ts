/** The glossary of the documents, as the page shows it: groups of terms, each with its sentence. */
export interface Term {
  name: string
  says: string
}
export interface Group {
  title: string
  terms: Term[]
}

/** Read the glossary: headings of the second order, and “**term**: sentence” on a line each. */
export function read(text: string): Group[] {
  const groups: Group[] = []
  for (const line of text.split('\n')) {
    const title = /^## (.+)$/.exec(line)?.[1]
    const term = /^\*\*(.+?)\*\*: (.+)$/.exec(line)
    if (title) groups.push({ title, terms: [] })
    else if (term) groups.at(-1)?.terms.push({ name: term[1]!, says: term[2]!.replaceAll('*', '') })
  }
  return groups
}

/** The groups with only the terms that hold all words of a text, in the name or the sentence. */
export function found(groups: Group[], words: string): Group[] {
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean)
  return groups
    .map(({ title, terms }) => ({
      title,
      terms: terms.filter(({ name, says }) =>
        wanted.every((word) => `${name} ${says}`.toLowerCase().includes(word)),
      ),
    }))
    .filter(({ terms }) => terms.length)
}
