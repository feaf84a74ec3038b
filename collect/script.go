package collect

import _ "embed"

// Script is a shell script (POSIX.1-2017, XCU 2) that prints an account of the machine that it runs on, for machines where nothing may be installed.
//
//go:embed script.sh
var Script string
