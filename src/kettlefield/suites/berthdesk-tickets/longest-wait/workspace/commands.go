package main

import (
	"fmt"
	"strconv"
)

var commands = map[string]func(minute int) string{
	"level": func(minute int) string { return strconv.Itoa(levelAt(minute)) },
	"gate":  func(minute int) string { return gateWord(isOpen(minute)) },
	"wait":  func(minute int) string { return strconv.Itoa(waitFrom(minute)) },
	"longest": func(int) string {
		waited, begins := longestWait()
		return fmt.Sprintf("%d minutes from %d", waited, begins)
	},
}

func gateWord(open bool) string {
	if open {
		return "open"
	}
	return "closed"
}
