#include <cstdio>
#include <deque>
#include <utility>

int main() {
    long long window, gust, sum = 0, place = 0;
    if (std::scanf("%lld", &window) != 1) return 1;
    std::deque<std::pair<long long, long long>> best;
    while (std::scanf("%lld", &gust) == 1) {
        while (!best.empty() && best.back().first <= gust) best.pop_back();
        best.push_back({gust, place});
        if (best.front().second < place - window) best.pop_front();
        sum += best.front().first;
        place++;
    }
    std::printf("%lld\n", sum);
}
