import { createI18n } from 'vue-i18n'
import en from './en.json'

/**
 * Every text that people read stands in en.json; another language is another
 * file beside it. What the service says (its words, states, kinds) is shown as
 * it says it.
 */
export const texts = createI18n({ legacy: false, locale: 'en', fallbackLocale: 'en', messages: { en } })

type Say = (key: string, ...more: (number | Record<string, unknown>)[]) => string

/** The text with a name; a number chooses singular or plural, and is {n} in it. */
export const t = texts.global.t as unknown as Say
