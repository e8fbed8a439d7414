#include <cstdio>
#include <deque>
#include <utility>

int main() {
    long long window, gust, sum = 0, place = 0;
    if (std::scanf("%lld", &window) != 1) return 1;
    std::deque<long long> last;
    while (std::scanf("%lld", &gust) == 1) {
        last.push_back(gust);
        if ((long long)last.size() > window) last.pop_front();
        long long best = 0;
        for (long long value : last) best = value > best ? value : best;
        sum += best;
    }
    std::printf("%lld\n", sum);
}
