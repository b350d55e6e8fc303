// Package draft proposes the description of a system from a description of its API that a
// program can read: OpenAPI 3 (JSON or YAML) or a GraphQL schema. Each guess stands with its
// reason; what such a document cannot tell is marked with a question.
package draft
