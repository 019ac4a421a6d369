#pragma once
struct Preferences {
  void begin(const char *, bool) {}
  bool getBool(const char *, bool other) { return other; }
  void putBool(const char *, bool) {}
};
