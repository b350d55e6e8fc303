// Package uses says which mappings, lists and crosswalks a configuration text
// (a mapping, sequence, partner, system or sync) names, and renames one in it.
package uses
