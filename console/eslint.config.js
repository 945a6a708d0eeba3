import vue from 'eslint-plugin-vue'
import texts from '@intlify/eslint-plugin-vue-i18n'
import ts from 'typescript-eslint'

export default ts.config(
  { ignores: ['src/api/schema.d.ts'] },
  ...ts.configs.recommended,
  ...vue.configs['flat/recommended'],
  ...texts.configs.base,
  {
    files: ['**/*.vue'],
    settings: { 'vue-i18n': { localeDir: './src/texts/*.json', messageSyntaxVersion: '^11.0.0' } },
    // All that people read stands in src/texts.
    rules: {
      '@intlify/vue-i18n/no-raw-text': [
        'error',
        {
          ignoreText: ['Moss Ledger', 'CSV', 'JSON', 'Ctrl K', 'ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub'],
          ignorePattern: '^[-+–−→:;.,()/#×·↑↓…\\s]*$',
          attributes: { '/.+/': ['title', 'aria-label', 'placeholder', 'alt', 'label', 'message', 'description', 'header'] },
        },
      ],
    },
  },
  {
    files: ['**/*.vue'],
    languageOptions: { parserOptions: { parser: ts.parser } },
  },
  {
    rules: {
      'vue/multi-word-component-names': 'off',
      'vue/max-attributes-per-line': 'off',
      'vue/multiline-html-element-content-newline': 'off',
      'vue/singleline-html-element-content-newline': 'off',
      'vue/html-self-closing': 'off',
      'vue/html-indent': 'off',
      'vue/html-closing-bracket-newline': 'off',
      'vue/first-attribute-linebreak': 'off',
    },
  },
)
