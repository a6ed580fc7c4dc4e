// Before anything is drawn: the theme that this person chose, so that the page does not flash in the other one.
;(() => {
  const chosen = localStorage.getItem('theme')
  const dark = chosen ? chosen === 'dark' : matchMedia('(prefers-color-scheme: dark)').matches
  document.documentElement.dataset.theme = dark ? 'dark' : 'light'
})()
