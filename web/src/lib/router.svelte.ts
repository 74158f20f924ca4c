/** Addresses of everything: path segments and a query, kept in step with the browser's history. */
function read() {
  return {
    parts: location.pathname.split('/').filter(Boolean),
    query: new URLSearchParams(location.search),
  };
}

class Router {
  #at = $state.raw(read());
  constructor() {
    addEventListener('popstate', () => {
      this.#at = read();
    });
  }
  get parts() {
    return this.#at.parts;
  }
  get query() {
    return this.#at.query;
  }
  go(path: string, replace = false) {
    if (path === location.pathname + location.search) return;
    if (replace) history.replaceState(null, '', path);
    else history.pushState(null, '', path);
    this.#at = read();
  }
}

export const router = new Router();

/** For links: plain clicks stay inside the page, all others are the browser's. */
export function follow(event: MouseEvent) {
  const link = (event.target as HTMLElement).closest('a');
  if (
    !link ||
    event.defaultPrevented ||
    event.button ||
    event.metaKey ||
    event.ctrlKey ||
    event.shiftKey
  )
    return;
  if (
    link.origin !== location.origin ||
    link.hasAttribute('download') ||
    link.target ||
    link.pathname.startsWith('/api/')
  )
    return;
  event.preventDefault();
  router.go(link.pathname + link.search);
}
