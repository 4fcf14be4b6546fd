/** Tags as they are typed in one line: separated by spaces or commas. */
export const tagsIn = (line: string): string[] => line.split(/[\s,]+/).filter(Boolean)
