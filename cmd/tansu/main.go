// Command tansu is the chest and everything that talks to it: one program, wired here.
package main

import (
	"os"
	_ "time/tzdata" // hours of grants name time zones, which a small machine may not have

	"tansu/internal/cli"
)

func main() {
	os.Exit(cli.Main(os.Args[1:], cli.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr}))
}
