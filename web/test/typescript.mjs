// Lets node's own test runner import the console's TypeScript as it stands.
import { readFile } from 'node:fs/promises'
import { register } from 'node:module'
import { pathToFileURL } from 'node:url'

export async function resolve(specifier, context, next) {
  if (/^\.\.?\//.test(specifier) && !/\.\w+$/.test(specifier)) return next(`${specifier}.ts`, context)
  return next(specifier, context)
}

export async function load(url, context, next) {
  if (!url.endsWith('.ts')) return next(url, context)
  const { default: ts } = await import('typescript')
  const source = ts.transpile(await readFile(new URL(url), 'utf8'), {
    module: ts.ModuleKind.ESNext,
    target: ts.ScriptTarget.ES2022,
    verbatimModuleSyntax: true,
  })
  return { format: 'module', source, shortCircuit: true }
}

if (!process.env.KOINOS_HOOKED) {
  process.env.KOINOS_HOOKED = '1'
  register(pathToFileURL(import.meta.filename ?? new URL(import.meta.url).pathname))
}
