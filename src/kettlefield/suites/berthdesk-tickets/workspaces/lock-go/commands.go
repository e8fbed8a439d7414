package main

import "strconv"

var commands = map[string]func(minute int) string{
	"level": func(minute int) string { return strconv.Itoa(levelAt(minute)) },
	"gate":  func(minute int) string { return gateWord(isOpen(minute)) },
	"wait":  func(minute int) string { return strconv.Itoa(waitFrom(minute)) },
}

func gateWord(open bool) string {
	if open {
		return "open"
	}
	return "closed"
}
