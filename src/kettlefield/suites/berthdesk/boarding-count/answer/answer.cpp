#include <iostream>
#include <string>

int main() {
    std::string name;
    int people, aboard = 0;
    while (std::cin >> name >> people) {
        aboard += people;
        std::cout << name << ' ' << aboard << '\n';
    }
}
