#include <iostream>
#include <string>

int main() {
    std::string name;
    int people, aboard = 0;
    while (std::cin >> name >> people) {
        std::cout << name << ' ' << aboard << '\n';
        aboard += people;
    }
}
