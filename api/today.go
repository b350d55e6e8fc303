package api

// Day is what loads did on one day (UTC).
type Day struct {
	Day     string `json:"day" db:"day"`
	Loads   int    `json:"loads" db:"loads"`
	Loaded  int    `json:"loaded" db:"loaded" doc:"Orders stored"`
	Changed int    `json:"changed" db:"changed"`
	Failed  int    `json:"failed" db:"failed" doc:"Orders refused, held or withheld"`
	Saved   int    `json:"saved_seconds" db:"saved"`
}
