package main

import (
	"io"
	"os"
)

// openArrivals opens a file of arrivals so that it can be read twice; standard input is kept in a
// file of its own for that.
func openArrivals(name string) (file *os.File, done func(), err error) {
	if name != "-" {
		f, err := os.Open(name)
		return f, func() { _ = f.Close() }, err
	}
	f, err := os.CreateTemp("", "dorfbote-arrivals-*")
	if err != nil {
		return nil, nil, err
	}
	done = func() { _ = f.Close(); _ = os.Remove(f.Name()) }
	if _, err := io.Copy(f, os.Stdin); err != nil {
		done()
		return nil, nil, err
	}
	return f, done, nil
}
