#include <iostream>

int main() {
    long length, queue = 0;
    while (std::cin >> length) {
        if (queue > 0) queue += @@gap@@;
        queue += length;
    }
    std::cout << queue << '\n';
}
