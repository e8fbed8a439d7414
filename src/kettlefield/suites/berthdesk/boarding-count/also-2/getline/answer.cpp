#include <cstdio>
#include <string>

int main() {
    char quay[4096];
    int change, now = 0, top = 0;
    std::string top_quay;
    while (std::scanf("%4095s %d", quay, &change) == 2) {
        now += change;
        std::printf("%s %d\n", quay, now);
        if (now > top) {
            top = now;
            top_quay = quay;
        }
    }
    std::printf("@@most@@ %d after %s\n", top, top_quay.empty() ? "-" : top_quay.c_str());
    return 0;
}
