package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"
)

// smallFiles is how many files of ten rows are audited.
const smallFiles = 1000

// starting compares an audit of ten rows with the start of a program that does nothing, and many in one process with one after the
// other.
func (b *bench) starting() error {
	empty := filepath.Join(b.directory, "empty.go")
	if err := os.WriteFile(empty, []byte("package main\n\nfunc main() {}\n"), 0o600); err != nil {
		return err
	}
	nothing := filepath.Join(b.directory, "nothing")
	if out, err := exec.Command("go", "build", "-o", nothing, empty).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	paths := make([]string, smallFiles)
	for i := range paths {
		paths[i] = filepath.Join(b.directory, fmt.Sprintf("small%04d.csv", i))
		text := "id,station,value\n"
		for row := range 10 {
			text += fmt.Sprintf("R%d,AV-%03d,%d.5\n", row, (i+row)%60, i*row%97)
		}
		if err := os.WriteFile(paths[i], []byte(text), 0o600); err != nil {
			return err
		}
	}
	started := func(name string, arguments ...string) func() (measured, error) {
		return func() (measured, error) {
			started := time.Now()
			err := exec.Command(name, arguments...).Run()
			return measured{took: time.Since(started)}, err
		}
	}
	var idle, ten, together measured
	if err := (&bench{rounds: 20}).inTurn([]measuring{{&idle, started(nothing)}, {&ten, started(program, "sift", paths[0])}}); err != nil {
		return err
	}
	if err := (&bench{rounds: min(b.rounds, 3)}).inTurn([]measuring{{&together, started(program, append([]string{"sift"}, paths...)...)}}); err != nil {
		return err
	}
	bar("sift on ten rows, against a program that does nothing", ten.took.Seconds()/idle.took.Seconds(), "times as long", 5, false)
	bar(fmt.Sprintf("%d small files at once, against one after the other", smallFiles), ten.took.Seconds()*smallFiles/together.took.Seconds(),
		"times as fast", 10, true)
	return nil
}
