#include <cstdio>
#include <map>

int main() {
    std::map<int, int> change;
    int begin, end;
    while (std::scanf("%d %d", &begin, &end) == 2) {
        ++change[begin];
        --change[end];
    }
    change[0];
    change[1440];
    int ships = 0, since = 0, sum = 0;
    bool is_free = false;
    for (const auto& [minute, step] : change) {
        if (is_free && ships + step > 0) {
            if (minute > since) {
                std::printf("%d %d\n", since, minute);
                sum += minute - since;
            }
            is_free = false;
        }
        ships += step;
        if (!is_free && ships == 0) {
            is_free = true;
            since = minute;
        }
    }
    if (is_free && since < 1440) {
        std::printf("%d 1440\n", since);
        sum += 1440 - since;
    }
    std::printf("@@word@@ %d\n", sum);
    return 0;
}
