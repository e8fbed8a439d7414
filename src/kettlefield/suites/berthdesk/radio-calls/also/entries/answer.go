package main

import (
	"bufio"
	"fmt"
	"os"
	"sort"
	"strconv"
	"strings"
)

type wait struct {
	ship  string
	clock string
	line  int
}

func clockMinutes(s string) int {
	h, _ := strconv.Atoi(s[:2])
	m, _ := strconv.Atoi(s[3:5])
	return 60*h + m
}

func main() {
	open := make(map[string]wait)
	longest, number := 0, 0
	reader := bufio.NewReader(os.Stdin)
	for {
		text, err := reader.ReadString('\n')
		text = strings.TrimRight(text, "\r\n")
		if clock, rest, ok := strings.Cut(text, " "); ok {
			number++
			word, ship, _ := strings.Cut(rest, " ")
			w, isOpen := open[ship]
			switch {
			case word == "call" && !isOpen:
				open[ship] = wait{ship, clock, number}
			case word == "answer" && isOpen:
				if minutes := clockMinutes(clock) - clockMinutes(w.clock); minutes > longest {
					longest = minutes
				}
				delete(open, ship)
			}
		}
		if err != nil {
			break
		}
	}
	var left []wait
	for _, w := range open {
		left = append(left, w)
	}
	sort.Slice(left, func(i, j int) bool { return left[i].line < left[j].line })
	for _, w := range left {
		fmt.Println(w.ship, "@@word@@", w.clock)
	}
	fmt.Println("@@most@@", longest)
}
