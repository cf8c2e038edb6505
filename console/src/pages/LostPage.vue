<template>
  <h1 class="mb-2">There is nothing here</h1>
  <p class="mb-4">The address may be old, or mistyped. The fleet is a good place to start from.</p>
  <RouterLink class="button-main" to="/">To the fleet</RouterLink>
</template>
