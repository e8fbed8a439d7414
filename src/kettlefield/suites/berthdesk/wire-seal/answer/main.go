package main

import (
	"bufio"
	"encoding/hex"
	"fmt"
	"os"
	"strings"
)

const factor = @@factor@@

func check(frame []byte) int {
	kind := frame[1] & 15
	station := int(frame[2]) | int(frame[3])<<8
	value := 19937
	if kind == 4 || kind == 9 {
		value = int(frame[4])
	}
	for at, part := range frame {
		isStation := at == 2 || at == 3
		if at == 0 || isStation && station >= 200 && station <= 299 {
			continue
		}
		value = (value*factor + int(part)) % 65521
	}
	if frame[5]&128 != 0 {
		value = (value + 11) % 65536
	}
	if station == 65535 {
		value = value>>8 | value&255<<8
	}
	return value
}

func main() {
	lines := bufio.NewScanner(os.Stdin)
	for lines.Scan() {
		text := strings.TrimSpace(lines.Text())
		if text == "" {
			continue
		}
		frame, err := hex.DecodeString(text)
		if err != nil {
			os.Exit(1)
		}
		fmt.Printf("%04X\n", check(frame))
	}
}
