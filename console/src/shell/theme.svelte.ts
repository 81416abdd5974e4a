/** Light or dark, kept in the browser. `public/theme-boot.js` sets it before the first paint. */

const KEY = 'moorfall-theme';

export class Theme {
  #dark = $state(document.documentElement.classList.contains('dark'));

  get dark(): boolean {
    return this.#dark;
  }

  toggle(): void {
    this.#dark = !this.#dark;
    document.documentElement.classList.toggle('dark', this.#dark);
    localStorage.setItem(KEY, this.#dark ? 'dark' : 'light');
  }
}
