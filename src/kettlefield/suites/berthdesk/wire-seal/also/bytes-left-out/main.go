package main

import (
	"bufio"
	"fmt"
	"os"
	"strconv"
)

func main() {
	in := bufio.NewReader(os.Stdin)
	for {
		var text string
		if _, err := fmt.Fscan(in, &text); err != nil {
			return
		}
		var frame []uint64
		for at := 0; at+1 < len(text); at += 2 {
			part, _ := strconv.ParseUint(text[at:at+2], 16, 8)
			frame = append(frame, part)
		}
		station := frame[3]*256 + frame[2]
		covered := append([]uint64{}, frame[1:]...)
		if station/100 == 2 {
			covered = append([]uint64{frame[1]}, frame[4:]...)
		}
		sum := uint64(19937)
		switch frame[1] % 16 {
		case 4, 9:
			sum = frame[4]
		}
		for _, part := range covered {
			sum = (sum*@@factor@@ + part) % 65521
		}
		if frame[5] > 127 {
			sum = (sum + 11) & 0xFFFF
		}
		high, low := sum>>8, sum&0xFF
		if station == 0xFFFF {
			high, low = low, high
		}
		fmt.Printf("%02X%02X\n", high, low)
	}
}
