// Package partner describes EDI trading partners: who they are in an interchange,
// which transaction sets are exchanged and in what form, how acknowledgements are
// given, and the rules that documents in both directions must keep. A partner is
// a YAML document, as mappings are.
package partner
