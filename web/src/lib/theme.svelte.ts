const stored = () => {
  try {
    return localStorage.getItem('theme');
  } catch {
    return null;
  }
};

class Theme {
  #name = $state(
    stored() ?? (matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light'),
  );
  constructor() {
    this.#apply();
  }
  get name() {
    return this.#name;
  }
  toggle() {
    this.#name = this.#name === 'dark' ? 'light' : 'dark';
    try {
      localStorage.setItem('theme', this.#name);
    } catch {
      /* private mode: the choice lasts for this page */
    }
    this.#apply();
  }
  #apply() {
    document.documentElement.dataset.theme = this.#name;
  }
}

export const theme = new Theme();
