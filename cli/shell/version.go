package shell

import "runtime/debug"

// Version is the program's version, as it was built.
func Version() string {
	if built != "" {
		return built
	}
	info, ok := debug.ReadBuildInfo()
	if !ok || info.Main.Version == "" {
		return "devel"
	}
	return info.Main.Version
}

// built is the version that the Makefile took from git.
var built string
