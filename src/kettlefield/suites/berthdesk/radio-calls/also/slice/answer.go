package main

import (
	"bufio"
	"fmt"
	"os"
	"strings"
)

type waiting struct {
	ship, since string
	at          int
}

func main() {
	var queue []waiting
	best := 0
	in := bufio.NewReader(os.Stdin)
	for {
		line, err := in.ReadString('\n')
		line = strings.TrimRight(line, "\r\n")
		if len(line) > 6 {
			clock := line[:5]
			now := 600*int(clock[0]-'0') + 60*int(clock[1]-'0') + 10*int(clock[3]-'0') + int(clock[4]-'0')
			rest := line[6:]
			word, ship, _ := strings.Cut(rest, " ")
			at := -1
			for i, w := range queue {
				if w.ship == ship {
					at = i
				}
			}
			switch {
			case word == "call" && at < 0:
				queue = append(queue, waiting{ship, clock, now})
			case word == "answer" && at >= 0:
				if now-queue[at].at > best {
					best = now - queue[at].at
				}
				queue = append(queue[:at:at], queue[at+1:]...)
			}
		}
		if err != nil {
			break
		}
	}
	for _, w := range queue {
		fmt.Println(w.ship, "@@word@@", w.since)
	}
	fmt.Println("@@most@@", best)
}
