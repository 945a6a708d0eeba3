/**
 * What the component library leaves wrong for screen readers, mended as it
 * appears: references to elements that are not there, boxes without a name.
 */
const references = ['aria-owns', 'aria-controls', 'aria-activedescendant']

function mendSelect(input: Element): void {
  for (const name of references) {
    const id = input.getAttribute(name)
    if (id && !document.getElementById(id)) input.removeAttribute(name)
  }
  if (input.getAttribute('role') === 'combobox' && !input.hasAttribute('aria-expanded')) input.setAttribute('aria-expanded', 'false')
  if (
    !input.hasAttribute('aria-label') &&
    !input.hasAttribute('aria-labelledby') &&
    !(input.id && document.querySelector(`label[for="${CSS.escape(input.id)}"]`))
  ) {
    const label = input.closest('.ant-select')?.getAttribute('aria-label')
    if (label) input.setAttribute('aria-label', label)
  }
}

function mendChoice(input: Element): void {
  if (input.hasAttribute('aria-label') || input.closest('label')?.textContent?.trim()) return
  const row = input.closest('tr')
  const name = row?.closest('thead') ? row.closest('table')?.getAttribute('data-choose-all') : row?.querySelector('a')?.textContent
  input.setAttribute('aria-label', (name ?? '').trim() || 'all')
}

function mend(root: ParentNode): void {
  // Groups of a menu: the library gives their items a role and not the groups.
  root.querySelectorAll('.ant-menu-item-group').forEach((group) => {
    group.setAttribute('role', 'none')
    group.querySelector('.ant-menu-item-group-title')?.setAttribute('role', 'none')
    group.querySelector('.ant-menu-item-group-list')?.setAttribute('role', 'group')
  })
  // A tree: its lines have no role, and say neither how deep they are nor whether they are open.
  root.querySelectorAll('.ant-tree-treenode:not([aria-hidden])').forEach((line) => {
    line.setAttribute('role', 'treeitem')
    line.setAttribute('aria-level', String(line.querySelectorAll('.ant-tree-indent-unit').length + 1))
    const leaf = line.querySelector('.ant-tree-switcher-noop')
    if (leaf) line.removeAttribute('aria-expanded')
    else line.setAttribute('aria-expanded', String(line.classList.contains('ant-tree-treenode-switcher-open')))
  })
  // The tree is what has the lines; the field that takes the keys stands beside it.
  root.querySelectorAll('.ant-tree').forEach((box) => {
    box.removeAttribute('role')
    const list = box.querySelector('.ant-tree-list')
    const name = list?.getAttribute('aria-label')
    if (!name) return
    list!.removeAttribute('aria-label')
    box.querySelector('input')?.setAttribute('aria-label', name)
    const lines = box.querySelector('.ant-tree-list-holder-inner')
    lines?.setAttribute('role', 'tree')
    lines?.setAttribute('aria-label', name)
  })
  root.querySelectorAll('.ant-select-selection-search-input').forEach(mendSelect)
  root.querySelectorAll('.ant-table-selection-column input').forEach(mendChoice)
  // What a mouse scrolls, a keyboard must reach.
  root.querySelectorAll('.ant-table-content, .ant-table-body, .ant-drawer-body, .ant-modal-body, .ant-list, .scrolls').forEach((box) => {
    if (box.scrollWidth > box.clientWidth + 1 || box.scrollHeight > box.clientHeight + 1) box.setAttribute('tabindex', '0')
    else if (box.getAttribute('tabindex') === '0') box.removeAttribute('tabindex')
  })
  // What is shown of a list of options is not what screen readers are given.
  root.querySelectorAll('.ant-select-item-option[aria-selected]:not([role])').forEach((option) => option.removeAttribute('aria-selected'))
  root
    .querySelectorAll('.ant-select-dropdown [role="presentation"][aria-selected]')
    .forEach((title) => title.removeAttribute('aria-selected'))
  root.querySelectorAll('.ant-modal-wrap[role="dialog"]:not([aria-labelledby])').forEach((dialog) => {
    const name = dialog.querySelector('.ant-modal-title')?.textContent || dialog.querySelector('[aria-label]')?.getAttribute('aria-label')
    if (name) dialog.setAttribute('aria-label', name)
  })
  // The button in it is what is pressed.
  root.querySelectorAll('.ant-upload[role="button"]').forEach((around) => {
    around.removeAttribute('role')
    around.removeAttribute('tabindex')
  })
  root.querySelectorAll('.ant-drawer-content').forEach((drawer) => {
    drawer.setAttribute('role', 'dialog')
    drawer.setAttribute('aria-label', drawer.querySelector('.ant-drawer-title')?.textContent || 'dialog')
  })
  root.querySelectorAll('.ant-tour').forEach((stop) => {
    stop.setAttribute('role', 'dialog')
    stop.setAttribute('aria-label', stop.querySelector('.ant-tour-title')?.textContent || 'dialog')
    stop.querySelector('.ant-tour-close')?.setAttribute('aria-hidden', 'true') // Escape ends it
  })
  // The list that a select shows to screen readers has options without their names.
  root.querySelectorAll('.ant-select-dropdown [role="listbox"]').forEach((list) => {
    if (!list.getAttribute('aria-label')) list.setAttribute('aria-label', 'options')
    if (!list.querySelector('[role="option"]')) list.setAttribute('role', 'presentation')
  })
  root.querySelectorAll('.ant-select-dropdown [role="option"]').forEach((option) => {
    if (!option.getAttribute('aria-label')) option.setAttribute('aria-label', option.textContent || '-')
  })
}

/** Watches the page from now on. */
export function keepAccessible(): void {
  let asked = 0
  const soon = (): void => {
    asked ||= requestAnimationFrame(() => {
      asked = 0
      mend(document)
    })
  }
  new MutationObserver(soon).observe(document.body, {
    childList: true,
    subtree: true,
    attributes: true,
    attributeFilter: ['aria-expanded', 'aria-activedescendant', 'class'],
  })
  window.addEventListener('resize', soon)
  soon()
}
