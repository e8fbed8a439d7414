package main

import (
	"bufio"
	"fmt"
	"os"
	"sort"
	"strconv"
	"strings"
	"sync"
)

type reading struct {
	gauge string
	level int
}

// readAll starts one goroutine for each line, GAUGE LEVEL LEVEL ...; what is no number is passed over.
func readAll(lines []string, out chan reading) {
	var open sync.WaitGroup
	for _, line := range lines {
		open.Add(1)
		go func(line string) {
			defer open.Done()
			words := strings.Fields(line)
			for _, word := range words[1:] {
				level, err := strconv.Atoi(word)
				if err != nil {
					continue
				}
				out <- reading{words[0], level}
			}
		}(line)
	}
	go func() {
		open.Wait()
		close(out)
	}()
}

func main() {
	var lines []string
	scanner := bufio.NewScanner(os.Stdin)
	for scanner.Scan() {
		if strings.TrimSpace(scanner.Text()) != "" {
			lines = append(lines, scanner.Text())
		}
	}
	out := make(chan reading)
	readAll(lines, out)
	highest := map[string]int{}
	for r := range out {
		if old, known := highest[r.gauge]; !known || r.level > old {
			highest[r.gauge] = r.level
		}
	}
	names := make([]string, 0, len(highest))
	for name := range highest {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		fmt.Println(name, highest[name])
	}
	fmt.Println("gauges", len(names))
}
