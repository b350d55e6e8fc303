// Package partner describes EDI trading partners: how they are identified in an interchange, which transaction sets are
// exchanged and in what form, how acknowledgements are given, and the rules that documents in both directions must
// keep. A partner is a YAML document, as mappings are.
package partner
