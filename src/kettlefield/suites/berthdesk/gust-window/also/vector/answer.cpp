#include <iostream>
#include <vector>

int main() {
    std::ios::sync_with_stdio(false);
    std::cin.tie(nullptr);
    size_t w;
    if (!(std::cin >> w)) return 1;
    std::vector<int> gusts;
    for (int g; std::cin >> g;) gusts.push_back(g);
    std::vector<size_t> line(gusts.size());
    size_t head = 0, tail = 0;
    unsigned long long total = 0;
    for (size_t i = 0; i < gusts.size(); ++i) {
        while (tail > head && gusts[line[tail - 1]] < gusts[i]) --tail;
        line[tail++] = i;
        while (line[head] + w <= i) ++head;
        total += gusts[line[head]];
    }
    std::cout << total << std::endl;
}
