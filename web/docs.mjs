import MarkdownIt from 'markdown-it'

// The documentation as the console shows it: each page of docs/ becomes a module of its sections, rendered when the console
// is built.

const md = new MarkdownIt()
md.renderer.rules.link_open = (tokens, i, options, env, self) => {
  const href = tokens[i].attrGet('href') ?? ''
  const page = /^([a-z0-9/.-]+)\.md(#.*)?$/i.exec(href) && /^\/docs\/.*\.md/.exec(beside(href, env.page))
  if (page) tokens[i].attrSet('href', beside(href, env.page).replace('.md', ''))
  else if (href.startsWith('#')) tokens[i].attrSet('href', `/docs/${env.page}${href}`)
  else if (!/^https?:/.test(href)) tokens[i].attrs = [] // a file of the repository, which the service does not have
  return self.renderToken(tokens, i, options)
}
// The bundler gives a picture its address: until then it is named by its file.
md.renderer.rules.image = (tokens, i, options, env, self) => {
  const src = tokens[i].attrGet('src')
  env.pictures.push(src)
  tokens[i].attrSet('src', `PICTURE:${src}`)
  tokens[i].attrSet('alt', tokens[i].content)
  return self.renderToken(tokens, i, options)
}
// What is wider than the page can be scrolled with the keys, too.
// A block that is a file has its name above it.
const code = (tokens, i) => {
  const file = /^\S+ (\S+\.\S+)$/.exec(tokens[i].info)?.[1]
  const text = `<pre tabindex="0"><code>${md.utils.escapeHtml(tokens[i].content)}</code></pre>`
  return file ? `<figure><figcaption>${md.utils.escapeHtml(file)}</figcaption>${text}</figure>` : text
}
md.renderer.rules.fence = code
md.renderer.rules.code_block = code
md.renderer.rules.table_open = () => '<div class="wide" tabindex="0"><table>'
md.renderer.rules.table_close = () => '</table></div>'

/** beside is the address of what a page names, such as ../mapping.md#dates. */
function beside(href, page) {
  const { pathname, hash } = new URL(href, `http://koinos/docs/${page}`)
  return pathname + hash
}

/** slug is the anchor of a heading, as repositories of source code give it. */
function slug(text, taken) {
  const plain = text.toLowerCase().replace(/[^\p{L}\p{N} _-]/gu, '').replaceAll(' ', '-')
  const n = taken.get(plain) ?? 0
  taken.set(plain, n + 1)
  return n ? `${plain}-${n}` : plain
}

/** anchors gives each word that a row of a table explains an id of its own: the code in the row's first cell. */
function anchors(tokens, taken) {
  for (let i = 0; i < tokens.length; i++) {
    if (tokens[i].type !== 'tr_open' || tokens[i + 1]?.type !== 'td_open') continue
    for (const t of tokens[i + 2].children ?? []) {
      const word = t.type === 'code_inline' && /^[\w.…]+/.exec(t.content)?.[0]
      if (!word || taken.has(word)) continue
      taken.set(word, 1)
      t.attrSet('id', word)
    }
  }
}

/** page gives the sections of a text, each with the words by which it is found. */
export function page(name, text) {
  const tokens = md.parse(text.replace(/<!--[\s\S]*?-->/g, ''), {})
  const sections = []
  const taken = new Map()
  for (let i = 0; i < tokens.length; i++) {
    const t = tokens[i]
    if (t.type === 'heading_open' && Number(t.tag.slice(1)) <= 3) {
      const title = tokens[i + 1].children.filter((c) => c.type === 'text' || c.type === 'code_inline').map((c) => c.content).join('')
      sections.push({ id: slug(title, taken), level: Number(t.tag.slice(1)), title, tokens: [] })
      i += 2
      continue
    }
    if (!sections.length) sections.push({ id: name, level: 1, title: name, tokens: [] })
    sections.at(-1).tokens.push(t)
  }
  anchors(tokens, taken)
  const pictures = []
  return {
    title: sections[0]?.title ?? name,
    pictures,
    sections: sections.map(({ id, level, title, tokens }) => ({
      id, level, title, html: md.renderer.render(tokens, md.options, { page: name, pictures }),
      text: tokens.filter((t) => t.type === 'inline' || t.type === 'fence' || t.type === 'code_block').map((t) => t.content).join(' ').replace(/\]\([^)]*\)|[`*[\]|]/g, ' '),
    })),
  }
}

/** docs lets modules import pages of the documentation. */
export function docs() {
  return {
    name: 'docs',
    transform(text, id) {
      const name = /\/docs\/((?:[a-z-]+\/)?[a-z0-9-]+)\.md$/i.exec(id)?.[1]
      if (!name) return
      const { pictures, ...content } = page(name, text)
      let code = `export default ${JSON.stringify(content)}`
      pictures.forEach((src, i) => {
        code = `import picture${i} from ${JSON.stringify(`./${src}`)}\n` + code.replace(`PICTURE:${src}`, `" + picture${i} + "`)
      })
      return { code, map: null, moduleType: 'js' }
    },
  }
}
