import { texts } from '.'
import more from './managed.en.json'

// Texts of one page only come with that page.
texts.global.mergeLocaleMessage('en', more)
