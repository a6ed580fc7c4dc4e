import { useSyncExternalStore } from 'react'

export type Theme = 'light' | 'dark'

const root = document.documentElement

function subscribe(changed: () => void) {
  const observer = new MutationObserver(changed)
  observer.observe(root, { attributeFilter: ['data-theme'] })
  return () => observer.disconnect()
}

/** The theme in use; public/theme.js sets it before the page is drawn. */
export function useTheme(): Theme {
  return useSyncExternalStore(subscribe, () => (root.dataset.theme === 'dark' ? 'dark' : 'light'))
}

/** Changes the theme and keeps the choice in this browser. */
export function setTheme(theme: Theme) {
  localStorage.setItem('theme', theme)
  root.dataset.theme = theme
}
