#pragma once
#include "WiFi.h"
struct PubSubClient {
  PubSubClient(WiFiClient &) {}
  bool connect(const char *, const char *, const char *) { return true; }
  bool connected() { return true; }
  bool publish(const char *, const char *) { return true; }
  bool subscribe(const char *, int = 0) { return true; }
  void loop() {}
  void setServer(const char *, int) {}
  void setSocketTimeout(int) {}
  void setBufferSize(int) {}
  void setCallback(void (*)(char *, uint8_t *, unsigned int)) {}
};
