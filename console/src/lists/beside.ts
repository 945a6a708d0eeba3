import { computed, ref, type Ref } from 'vue'

/**
 * The row that is shown beside its list. Arrow keys walk from row to row, the space
 * bar shows one beside the list, Enter follows its link.
 */
export function useBeside<T extends object>(items: Ref<T[]>, key: (row: T) => string | number, there: () => boolean) {
  const beside = ref<T>() as Ref<T | undefined>
  const at = computed(() => (beside.value ? items.value.findIndex((r) => key(r) === key(beside.value!)) : -1))

  function walk(by: number): void {
    const row = items.value[at.value + by]
    if (row) beside.value = row
  }
  function keyed(e: KeyboardEvent, row: T): void {
    if (e.target !== e.currentTarget) return
    const line = e.currentTarget as HTMLElement
    if (e.key === 'ArrowDown' || e.key === 'ArrowUp') {
      e.preventDefault()
      const next = (e.key === 'ArrowDown' ? line.nextElementSibling : line.previousElementSibling) as HTMLElement | null
      next?.focus()
    } else if (e.key === ' ' && there()) {
      e.preventDefault()
      beside.value = row
    } else if (e.key === 'Enter') line.querySelector('a')?.click()
  }
  function clicked(e: MouseEvent, row: T): void {
    const target = e.target as HTMLElement
    // What is a link or a button is that; who marks a text wants the text.
    if (there() && !target.closest('a, button, input, label, .ant-table-selection-column') && !String(getSelection())) beside.value = row
  }
  const line = (row: T) => ({
    tabindex: there() ? 0 : undefined,
    class: at.value >= 0 && key(row) === key(beside.value!) ? 'beside' : undefined,
    onClick: (e: MouseEvent) => clicked(e, row),
    onKeydown: (e: KeyboardEvent) => keyed(e, row),
  })
  return { beside, at, walk, line }
}
