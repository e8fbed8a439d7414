#include <algorithm>
#include <iostream>
#include <vector>

// greatest of each block from its front and from its back: a window is a tail of one and a head of the next
int main() {
    std::ios::sync_with_stdio(false);
    std::cin.tie(nullptr);
    std::size_t w;
    if (!(std::cin >> w)) return 0;
    std::vector<int> gusts;
    for (int gust; std::cin >> gust;) gusts.push_back(gust);
    const std::size_t n = gusts.size();
    std::vector<int> head(n), tail(n);
    for (std::size_t i = 0; i < n; ++i) head[i] = i % w == 0 ? gusts[i] : std::max(head[i - 1], gusts[i]);
    for (std::size_t i = n; i-- > 0;) {
        tail[i] = i + 1 == n || (i + 1) % w == 0 ? gusts[i] : std::max(tail[i + 1], gusts[i]);
    }
    unsigned long long total = 0;
    for (std::size_t i = 0; i < n; ++i) {
        total += i + 1 < w ? head[i] : std::max(tail[i + 1 - w], head[i]);
    }
    std::cout << total << "\n";
}
