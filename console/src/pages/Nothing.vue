<template>
  <main class="page">
    <section class="sheet">
      <h1>There is no such page</h1>
      <p class="soft mt-2 mb-3">The address may be old or mistyped.</p>
      <RouterLink class="btn btn-primary" to="/">To Now</RouterLink>
    </section>
  </main>
</template>
