<template>
  <svg class="emblem" viewBox="0 0 24 24" width="22" height="22" aria-hidden="true">
    <circle cx="12" cy="12" r="9.6" fill="none" stroke="currentColor" stroke-width="1.8" />
    <circle cx="12" cy="12" r="4.2" fill="var(--ember)" />
  </svg>
</template>
