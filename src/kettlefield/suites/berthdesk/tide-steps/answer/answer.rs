use std::io::{self, Read};

fn main() {
    let mut text = String::new();
    io::stdin().read_to_string(&mut text).unwrap();
    let heights: Vec<i64> = text.split_whitespace().map(|word| word.parse().unwrap()).collect();
    let (mut @@up@@, mut @@down@@) = (0, 0);
    let (mut best, mut best_at, mut run) = (0, 0, 0);
    for i in 0..heights.len() {
        if i > 0 && heights[i] > heights[i - 1] {
            @@up@@ += 1;
            run += 1;
        } else {
            if i > 0 && heights[i] < heights[i - 1] {
                @@down@@ += 1;
            }
            run = 1;
        }
        if run > best {
            best = run;
            best_at = i + 2 - run;
        }
    }
    println!("@@up@@ {}\n@@down@@ {}\n@@run@@ {} {}", @@up@@, @@down@@, best, best_at);
}
