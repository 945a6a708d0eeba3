<template>
  <h1>There is no such page</h1>
  <p class="soft">Go to the <RouterLink to="/">overview</RouterLink>.</p>
</template>
