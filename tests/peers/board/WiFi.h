#pragma once
#define WL_CONNECTED 3
struct WiFiClient {};
struct {
  int status() { return WL_CONNECTED; }
  void setAutoReconnect(bool) {}
  void begin(const char *, const char *) {}
} WiFi;
