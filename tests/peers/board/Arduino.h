// Stand-ins for what a board's core offers, just enough to check starter code with a compiler.
#pragma once
#include <cstdint>
#include <string>
#define HIGH 1
#define LOW 0
#define OUTPUT 1
struct String {
  std::string s;
  String(const char *c = "") : s(c) {}
  String(double v) : s(std::to_string(v)) {}
  String(int v) : s(std::to_string(v)) {}
  String &operator+=(const String &o) { s += o.s; return *this; }
  String &operator+=(char c) { s += c; return *this; }
  bool operator==(const String &o) const { return s == o.s; }
  bool operator!=(const String &o) const { return s != o.s; }
  const char *c_str() const { return s.c_str(); }
  float toFloat() const { return 0; }
};
inline String operator+(String a, const String &b) { a += b; return a; }
void pinMode(int pin, int mode);
void digitalWrite(int pin, int value);
unsigned long millis();
