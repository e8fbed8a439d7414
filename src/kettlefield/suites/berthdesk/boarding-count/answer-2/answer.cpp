#include <iostream>
#include <string>

int main() {
    std::string name;
    int people, aboard = 0, most = 0;
    std::string where = "-";
    while (std::cin >> name >> people) {
        aboard += people;
        if (aboard > most) {
            most = aboard;
            where = name;
        }
        std::cout << name << ' ' << aboard << '\n';
    }
    std::cout << "@@most@@ " << most << " after " << where << '\n';
}
