/** Light, dark, or as the system has it. A person's choice stays on this machine. */
export type Theme = 'system' | 'paper' | 'night'

export function chosenTheme(): Theme {
  try {
    const kept = localStorage.getItem('theme')
    return kept === 'paper' || kept === 'night' ? kept : 'system'
  } catch {
    return 'system'
  }
}

export function applyTheme(theme: Theme = chosenTheme()): void {
  if (theme === 'system') document.documentElement.removeAttribute('data-theme')
  else document.documentElement.setAttribute('data-theme', theme)
}

export function chooseTheme(theme: Theme): void {
  applyTheme(theme)
  try {
    if (theme === 'system') localStorage.removeItem('theme')
    else localStorage.setItem('theme', theme)
  } catch {
    // A browser that keeps nothing shows the choice until the page is left.
  }
}
