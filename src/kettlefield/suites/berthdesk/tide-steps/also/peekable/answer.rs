use std::io::stdin;

fn main() {
    let mut heights = Vec::new();
    for line in stdin().lines() {
        for word in line.unwrap().split_ascii_whitespace() {
            heights.push(word.parse::<i32>().unwrap());
        }
    }
    let rises = heights.iter().zip(heights.iter().skip(1)).filter(|(a, b)| b > a).count();
    let falls = heights.iter().zip(heights.iter().skip(1)).filter(|(a, b)| b < a).count();
    let mut longest = 0usize;
    let mut at = 0usize;
    let mut start = 0usize;
    while start < heights.len() {
        let mut end = start + 1;
        while end < heights.len() && heights[end] > heights[end - 1] {
            end += 1;
        }
        if end - start > longest {
            longest = end - start;
            at = start + 1;
        }
        start = end;
    }
    println!("@@up@@ {rises}");
    println!("@@down@@ {falls}");
    println!("@@run@@ {longest} {at}");
}
