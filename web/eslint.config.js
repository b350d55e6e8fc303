import vue from 'eslint-plugin-vue'
import accessible from 'eslint-plugin-vuejs-accessibility'
import ts from 'typescript-eslint'
import vueParser from 'vue-eslint-parser'

const controls = ['Checkbox', 'InputText', 'MultiSelect', 'Select'] // PrimeVue's, that a label can be for

export default [
  { ignores: ['dist/**', 'src/api/schema.d.ts'] },
  ...ts.configs.recommended,
  ...vue.configs['flat/essential'],
  ...accessible.configs['flat/recommended'],
  {
    rules: {
      'vuejs-accessibility/label-has-for': [
        'error',
        { controlComponents: controls, required: { some: ['nesting', 'id'] } },
      ],
      'vuejs-accessibility/form-control-has-label': 'off', // it does not see labels beside a control that name its id
      'vuejs-accessibility/no-static-element-interactions': 'off', // areas to drop on, beside a button that does the same
      'vuejs-accessibility/no-autofocus': 'off', // of dialogs only, where the focus must go somewhere
    },
  },
  { files: ['**/*.vue'], languageOptions: { parser: vueParser, parserOptions: { parser: ts.parser } } },
]
