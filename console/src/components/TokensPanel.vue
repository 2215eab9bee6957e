<script setup lang="ts">
import { ref } from 'vue'
import type { Model } from '../api/types'
import TokenReader from './TokenReader.vue'

/** Tokens, one or two side by side. */
defineProps<{ model: Model }>()
const two = ref(false)
</script>

<template>
  <p class="lead">
    What a token says, whether it holds, and what it means here: each claim beside the register. Or what a token of somebody would let them
    do.
    <ElSwitch v-model="two" active-text="two side by side" aria-label="Two side by side" />
  </p>
  <p v-if="!model.issuers.length">The charter says of no issuer what its tokens mean: every token is refused.</p>
  <div class="readers">
    <TokenReader :model="model" name="First" />
    <TokenReader v-if="two" :model="model" name="Second" />
  </div>
</template>

<style scoped>
.lead {
  margin: 4px 0 16px;
}
.readers {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(420px, 100%), 1fr));
  gap: 16px;
}
</style>
