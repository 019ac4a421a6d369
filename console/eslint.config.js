import vue from 'eslint-plugin-vue'
import ts from 'typescript-eslint'

export default ts.config(
  { ignores: ['dist', 'public', 'first', 'src/contract.gen.ts'] },
  ...ts.configs.recommended,
  ...vue.configs['flat/recommended'],
  {
    files: ['**/*.vue'],
    languageOptions: { parserOptions: { parser: ts.parser } },
  },
  {
    rules: {
      'vue/multi-word-component-names': 'off',
      'vue/max-attributes-per-line': 'off',
      'vue/singleline-html-element-content-newline': 'off',
      'vue/html-self-closing': 'off',
      'vue/html-closing-bracket-newline': 'off',
      'vue/first-attribute-linebreak': 'off',
      'vue/html-indent': 'off',
      'vue/multiline-html-element-content-newline': 'off', // Prettier knows
      'vue/html-quotes': 'off',
      'vue/attributes-order': 'off',
      'vue/max-len': [
        'error',
        { code: 140, tabWidth: 2, ignoreStrings: true, ignoreTemplateLiterals: true, ignoreHTMLAttributeValues: false },
      ],
      'vue/no-v-html': 'off', // only the icons that are built in
    },
  },
)
