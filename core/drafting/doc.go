// Package drafting proposes a mapping for a document that has none.
//
// It looks at the words of headings and labels (words.go holds what order
// documents call the fields, in several languages), at the values (dates,
// numbers, codes that stand in lists, figures that multiply to a third), at
// how rows hang together, and at mappings that were made before. Every guess
// says why it was made, how sure it is, and what the second choice was.
package drafting
