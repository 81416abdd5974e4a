// Runs before the first paint, so that the page does not flash in the other theme.
(() => {
  const kept = localStorage.getItem('moorfall-theme');
  const dark = kept === 'dark' || (kept !== 'light' && matchMedia('(prefers-color-scheme: dark)').matches);
  document.documentElement.classList.toggle('dark', dark);
})();
