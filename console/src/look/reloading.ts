const key = 'moss-reloaded'
const pause = 30_000

/**
 * Parts of a page that cannot be loaded belong to a service that was replaced by another version meanwhile, or whose network was
 * away for a moment: the page is loaded anew, which brings the parts of now. It is done once in half a minute at most, so that a
 * service that is gone is told as that.
 */
export function reloading(
  event: Event,
  now = Date.now(),
  kept: Pick<Storage, 'getItem' | 'setItem'> = sessionStorage,
  reload = () => location.reload(),
): void {
  if (now - Number(kept.getItem(key) ?? 0) < pause) return
  kept.setItem(key, String(now))
  event.preventDefault()
  reload()
}

/** Listens for parts that cannot be loaded. */
export function reloadMissing(): void {
  window.addEventListener('vite:preloadError', (event) => reloading(event))
}
