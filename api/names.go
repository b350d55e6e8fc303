package api

// Use is something that names a mapping, sequence, list or crosswalk.
type Use struct {
	Kind string `json:"kind" doc:"mapping, sequence, partner, system, sync, folder (one that is watched), or check (a field of every order is looked up in a list of this name)"`
	Name string `json:"name" doc:"Of what names it; of a check, the field"`
}

// Rename is the new name of something.
type Rename struct {
	To string `json:"to" minLength:"1" maxLength:"64" doc:"Small letters, digits, _ and -"`
}

// Renamed is the result of a rename.
type Renamed struct {
	Name    string `json:"name" doc:"The name that it has now"`
	Changed []Use  `json:"changed" doc:"What named it, and names it by the new name now"`
}
