<template>
  <div class="page">
    <h1>There is nothing here</h1>
    <p>This address does not exist. <RouterLink to="/documents">Documents</RouterLink>, <RouterLink
      to="/loads">Loads</RouterLink> and <RouterLink to="/orders">Orders</RouterLink> are what there is.</p>
  </div>
</template>
